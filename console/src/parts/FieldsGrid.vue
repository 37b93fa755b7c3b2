<template>
  <div class="grid" role="group" aria-label="Fields">
    <div class="title">fields</div>
    <div class="scroll" tabindex="0" role="region" aria-label="Fields of the source">
      <table class="plain">
        <thead><tr><th>keep</th><th>name</th><th>in the sample</th><th>type</th><th>taken from</th><th>written as</th><th>without it</th></tr></thead>
        <tbody>
          <tr v-for="f in rows" :key="f.name" :class="{ out: !f.kept }">
            <td><input type="checkbox" :checked="f.kept" :aria-label="`keep ${f.name}`" @change="keep(f, ($event.target as HTMLInputElement).checked)" /></td>
            <template v-if="f.kept">
              <td><DraftInput :value="f.name" :aria-label="`name of field ${f.name}`" @change="rename(f, $event)" /></td>
              <td class="mono value" :title="shown(f)">{{ shown(f) }}</td>
              <td><ElSelect :model-value="f.type" size="small" :aria-label="`type of ${f.name}`" @update:model-value="set(f, 'type', String($event))"><ElOption v-for="t in typesOf(f)" :key="t" :value="t" :label="t" /></ElSelect></td>
              <td><DraftInput :value="f.at" :placeholder="f.name" :aria-label="`where ${f.name} is taken from`" @change="set(f, 'at', $event)" /></td>
              <td><ElSelect v-if="f.type === 'timestamp'" :model-value="f.parse" size="small" filterable allow-create clearable placeholder="rfc3339" :aria-label="`how ${f.name} is written`" @update:model-value="set(f, 'parse', String($event ?? ''))"><ElOption v-for="t in forms" :key="t" :value="t" :label="t" /></ElSelect></td>
              <td><DraftInput :value="f.default" placeholder="null" :aria-label="`what ${f.name} is without a value`" @change="set(f, 'default', $event)" /></td>
            </template>
            <template v-else><td>{{ f.name }}</td><td class="soft">not taken</td><td class="soft">{{ f.type }}</td><td colspan="3" class="soft">{{ f.at || f.name }}</td></template>
          </tr>
        </tbody>
      </table>
    </div>
    <button type="button" class="add" @click="add">add field</button>
  </div>
</template>

<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import { computed } from 'vue'

import { types } from '../document/forms'
import { freeAmong, put, rename as renamed, scalar, valueAt, type Path } from '../document/splice'
import type { Schemas } from '../http'
import DraftInput from './DraftInput.vue'

interface Row {
  name: string
  kept: boolean
  type: string
  at: string
  parse: string
  default: string
}

const props = defineProps<{
  text: string
  /** Where the source stands in the document. */
  base: Path
  /** A row of the sample as the document reads it; null where there is none. */
  sample: Record<string, unknown> | null
  /** What the events were seen to have. */
  found: Schemas['Inference']['fields']
}>()
const emit = defineEmits<{ change: [text: string] }>()

const forms = ['rfc3339', 'epoch_s', 'epoch_ms', 'epoch_us', 'epoch_ns', '%Y-%m-%d %H:%M:%S', '%d/%m/%Y %H:%M:%S']

function textOf(v: unknown): string {
  return v === undefined || v === null ? '' : String(v)
}
const own = computed<Row[]>(() => {
  const fields = valueAt(props.text, [...props.base, 'fields'])
  if (typeof fields !== 'object' || fields === null) return []
  return Object.entries(fields).map(([name, v]) => {
    const f: Record<string, unknown> = typeof v === 'object' && v !== null ? (v as Record<string, unknown>) : { type: v }
    return { name, kept: true, type: textOf(f.type), at: textOf(f.at), parse: textOf(f.parse), default: textOf(f.default) }
  })
})
/** The fields of the document, and behind them what the events have beside. */
const rows = computed<Row[]>(() => {
  const taken = new Set(own.value.map((f) => f.at || f.name))
  return [...own.value, ...props.found.filter((f) => !taken.has(f.at || f.name)).map((f) => ({ name: f.name, kept: false, type: f.type, at: f.at, parse: f.parse, default: '' }))]
})

function typesOf(f: Row): string[] {
  return types.includes(f.type) ? types : [f.type, ...types]
}
function shown(f: Row): string {
  const v = props.sample?.[f.name]
  return v === undefined ? '' : v === null ? 'null' : typeof v === 'object' ? JSON.stringify(v) : String(v)
}
function written(f: Row): string {
  const more = [f.at && f.at !== f.name ? `at: ${scalar(f.at)}` : '', f.parse ? `parse: ${scalar(f.parse)}` : '', f.default ? `default: ${scalar(f.default)}` : ''].filter(Boolean)
  return more.length ? `{type: ${f.type}, ${more.join(', ')}}` : f.type
}
function at(f: Row): Path {
  return [...props.base, 'fields', f.name]
}
function keep(f: Row, yes: boolean) {
  emit('change', put(props.text, at(f), yes ? written(f) : null))
}
function set(f: Row, what: 'type' | 'at' | 'parse' | 'default', v: string) {
  const given = v.trim()
  if (given === f[what] || (what === 'type' && !given)) return
  // What belongs to a timestamp alone goes with its type.
  const next = { ...f, [what]: given, ...(what === 'type' && given !== 'timestamp' ? { parse: '' } : {}) }
  if (typeof valueAt(props.text, at(f)) !== 'object') return emit('change', put(props.text, at(f), written(next)))
  let text = put(props.text, [...at(f), what], given ? scalar(given) : null)
  if (f.parse && !next.parse) text = put(text, [...at(f), 'parse'], null)
  emit('change', text)
}
/** Another name takes the value from where it was taken before; the event time goes with it. */
function rename(f: Row, name: string) {
  const given = name.trim()
  if (!given || given === f.name) return
  let text = renamed(props.text, at(f), given)
  if (text === props.text) return
  if (!f.at) text = typeof valueAt(text, at({ ...f, name: given })) === 'object' ? put(text, [...at({ ...f, name: given }), 'at'], scalar(f.name)) : put(text, at({ ...f, name: given }), written({ ...f, name: given, at: f.name }))
  if (valueAt(text, [...props.base, 'event_time']) === f.name) text = put(text, [...props.base, 'event_time'], given)
  emit('change', text)
}
function add() {
  const name = freeAmong(rows.value.map((f) => f.name), 'field')
  emit('change', put(props.text, [...props.base, 'fields', name], 'string'))
}
</script>

<style scoped>
.title { color: var(--soft); margin: 8px 0 4px; }
.scroll { overflow-x: auto; }
.scroll:focus-visible { outline: 2px solid var(--sea); }
table { min-width: 560px; }
td { padding: 2px 4px 2px 0; vertical-align: middle; }
td:nth-child(2) { min-width: 92px; }
td:nth-child(4) { min-width: 104px; }
td:nth-child(6) { min-width: 96px; }
.value { max-width: 110px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; font-size: 11.5px; }
.add { border: 0; background: none; color: var(--sea); font: inherit; cursor: pointer; padding: 2px 0; text-decoration: underline; }
</style>
