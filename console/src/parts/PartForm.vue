<template>
  <div class="form">
    <div v-for="s in form.settings" :key="s.path.join('.')" class="line">
      <label :for="id(s.path)">{{ s.label }}</label>
      <ElSelect v-if="s.from" :id="id(s.path)" :model-value="shown(s)" size="small" filterable @update:model-value="set(s, String($event))">
        <ElOption v-for="o in inputs" :key="o" :value="o" :label="o" />
      </ElSelect>
      <ElSelect v-else-if="s.reference" :id="id(s.path)" :model-value="shown(s)" size="small" filterable @update:model-value="set(s, String($event))">
        <ElOption v-for="o in references" :key="o" :value="o" :label="o" />
      </ElSelect>
      <ElSelect v-else-if="s.choice" :id="id(s.path)" :model-value="shown(s)" size="small" clearable :placeholder="s.hint" @update:model-value="set(s, String($event ?? ''))">
        <ElOption v-for="o in s.choice" :key="o" :value="o" :label="o" />
      </ElSelect>
      <DraftInput v-else :id="id(s.path)" :value="shown(s)" :placeholder="s.hint" @change="set(s, $event)" />
    </div>
    <template v-for="n in form.named" :key="n.path.join('.')">
      <div class="title">{{ n.label }}</div>
      <div v-for="[name, expression] in entries(n)" :key="name" class="line two">
        <DraftInput :value="name" :aria-label="`name of ${n.name}`" @change="rename(n, name, $event)" />
        <DraftInput :value="expression" class="mono" :aria-label="`${n.name} ${name}`" @change="express(n, name, $event)" />
        <button type="button" class="drop" :aria-label="`take out ${name}`" @click="change(put(text, [...base, ...n.path, name], null))">×</button>
      </div>
      <button type="button" class="add" @click="addNamed(n)">add {{ n.name }}</button>
    </template>
    <div class="foot">
      <button type="button" class="add brick" @click="change(put(text, base, null))">take out {{ part }}</button>
    </div>
  </div>
</template>

<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import { computed } from 'vue'

import { keyFields, matches, matchOf, type Field } from '../document/match'
import { formOf, type Named, type Setting } from '../document/forms'
import { readable, referencesOf } from '../document/outline'
import { put, scalar, valueAt, type Path } from '../document/splice'
import { loadKinds } from '../use/kinds'
import DraftInput from './DraftInput.vue'

const props = defineProps<{
  text: string
  /** Kind and name: step rate. */
  part: string
  /** The fields of a source, reference or step, as far as they are known. */
  fields: (name: string) => Field[]
}>()
const emit = defineEmits<{ change: [text: string] }>()

void loadKinds()
const kind = computed(() => props.part.slice(0, props.part.indexOf(' ')))
const base = computed<Path>(() => [`${kind.value}s`, props.part.slice(props.part.indexOf(' ') + 1)])
const value = computed(() => (valueAt(props.text, base.value) ?? {}) as Record<string, unknown>)
const form = computed(() => formOf(kind.value, value.value))
const inputs = computed(() => readable(props.text).filter((r) => r !== base.value[1] && !r.endsWith(` of ${String(base.value[1])}`)))

const references = computed(() => referencesOf(props.text).filter((r) => r !== base.value[1]))

function id(path: Path): string {
  return `set-${path.join('-')}`
}
function dig(path: Path): unknown {
  let v: unknown = value.value
  for (const k of path) v = typeof v === 'object' && v !== null ? (v as Record<string, unknown>)[String(k)] : undefined
  return v
}
function shown(s: Setting): string {
  const v = dig(s.path)
  if (v === undefined || v === null) return ''
  return Array.isArray(v) ? v.join(', ') : String(v)
}
function change(text: string) {
  emit('change', text)
}
function set(s: Setting, v: string) {
  if (v === shown(s)) return
  const path = [...base.value, ...s.path]
  if (v.trim() === '') return change(put(props.text, path, null))
  const written = s.list || (s.from && v.includes(',')) ? `[${v.split(',').map((x) => x.trim()).filter(Boolean).join(', ')}]` : scalar(v)
  change(matched(put(props.text, path, written), s.path))
}
/** The text, with other fields to match where what was changed is an input that has not those of before. */
function matched(text: string, path: Path): string {
  const at = { 'join.left': 'join', 'join.right': 'join', 'lookup.reference': 'lookup' }[path.join('.')] ?? (path[0] === 'from' && value.value.lookup ? 'lookup' : '')
  if (!at) return text
  const read = (...p: string[]) => props.fields(String(valueAt(text, [...base.value, ...p]) ?? ''))
  const left = at === 'join' ? read('join', 'left') : read('from')
  const reference = String(valueAt(text, [...base.value, 'lookup', 'reference']) ?? '')
  const right = at === 'join' ? read('join', 'right') : keyFields(props.fields(reference), valueAt(text, ['references', reference, 'key']))
  const proposed = matchOf(left, right)
  if (!proposed || matches(valueAt(text, [...base.value, at, 'match']), left, right)) return text
  return put(text, [...base.value, at, 'match'], `{${proposed[0]}: ${proposed[1]}}`)
}
function entries(n: Named): [string, string][] {
  const v = dig(n.path)
  return typeof v === 'object' && v !== null ? Object.entries(v).map(([k, x]) => [k, typeof x === 'object' ? JSON.stringify(x) : String(x)]) : []
}
/** An expression as YAML: in quotes unless it is plainly one word or call. */
function written(e: string): string {
  return /^[A-Za-z_][A-Za-z0-9_.]*(\([A-Za-z0-9_., ]*\))?$/.test(e.trim()) && !e.includes(',') ? e.trim() : `'${e.trim().replaceAll("'", "''")}'`
}
function express(n: Named, name: string, e: string) {
  change(put(props.text, [...base.value, ...n.path, name], written(e)))
}
function rename(n: Named, old: string, name: string) {
  if (!name.trim() || name === old) return
  const e = entries(n).find(([k]) => k === old)?.[1] ?? n.expression
  change(put(put(props.text, [...base.value, ...n.path, name.trim()], written(e)), [...base.value, ...n.path, old], null))
}
function addNamed(n: Named) {
  const taken = entries(n).map(([k]) => k)
  let name = n.name
  for (let i = 2; taken.includes(name); i++) name = `${n.name}_${i}`
  change(put(props.text, [...base.value, ...n.path, name], written(n.expression)))
}
</script>

<style scoped>
.form { font-size: 12px; }
.line { display: grid; grid-template-columns: 120px minmax(0, 1fr); gap: 8px; align-items: center; margin-bottom: 5px; }
.line.two { grid-template-columns: 120px minmax(0, 1fr) 18px; }
.line label { color: var(--soft); }
.title { color: var(--soft); margin: 8px 0 4px; }
.add, .drop { border: 0; background: none; color: var(--sea); font: inherit; cursor: pointer; padding: 2px 0; text-decoration: underline; }
.drop { text-decoration: none; font-size: 15px; color: var(--soft); }
.brick { color: var(--brick); }
.foot { margin-top: 8px; }
</style>
