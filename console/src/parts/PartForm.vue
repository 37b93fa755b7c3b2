<template>
  <div class="form">
    <div v-for="s in form.settings" :key="s.path.join('.')" class="line">
      <label :for="id(s.path)">{{ s.label }}</label>
      <ElSelect v-if="s.from" :id="id(s.path)" :model-value="several(s) ?? shown(s)" :multiple="several(s) !== null" size="small" filterable @update:model-value="set(s, String($event))">
        <ElOption v-for="o in inputs" :key="o" :value="o" :label="o" />
      </ElSelect>
      <ElSelect v-else-if="s.reference" :id="id(s.path)" :model-value="shown(s)" size="small" filterable @update:model-value="set(s, String($event))">
        <ElOption v-for="o in references" :key="o" :value="o" :label="o" />
      </ElSelect>
      <ElSelect v-else-if="s.writes" :id="id(s.path)" :model-value="s.is" size="small" @update:model-value="change(put(text, [...base, ...s.path], s.writes[String($event)] ?? null))">
        <ElOption v-for="o in s.choice" :key="o" :value="o" :label="o" />
      </ElSelect>
      <ElSelect v-else-if="s.choice" :id="id(s.path)" :model-value="shown(s)" size="small" clearable :placeholder="s.hint" @update:model-value="set(s, String($event ?? ''))">
        <ElOption v-for="o in s.choice" :key="o" :value="o" :label="o" />
      </ElSelect>
      <DraftInput v-else :id="id(s.path)" :value="shown(s)" :placeholder="s.hint" @change="set(s, $event)" />
    </div>
    <FieldsGrid v-if="form.fields" :text="text" :base="base" :sample="sample" :found="found" @change="change($event)" />
    <template v-for="n in form.named" :key="n.path.join('.')">
      <div class="title">{{ n.label }}</div>
      <div v-for="[name, expression] in entries(n)" :key="name" class="line two">
        <DraftInput :value="name" :aria-label="`name of ${n.name} ${name}`" @change="rename(n, name, $event)" />
        <MeasureInputs v-if="n.measures && typeof expression === 'string'" :name="name" :text="expression" :fields="input" @change="express(n, [name], $event)" />
        <span v-else-if="n.of" class="several"><DraftInput v-for="m in n.of" :key="m" :value="within(expression, m)" class="mono" :placeholder="m" :aria-label="`${m} of ${name}`" @change="express(n, [name, m], $event)" /></span>
        <ElSelect v-else-if="n.choice" :model-value="String(expression)" size="small" :aria-label="`${n.name} ${name}`" @update:model-value="express(n, [name], String($event))"><ElOption v-for="o in n.choice" :key="o" :value="o" :label="o" /></ElSelect>
        <span v-else-if="typeof expression === 'object'" class="soft mono" title="It is written in the text">{{ JSON.stringify(expression) }}</span>
        <DraftInput v-else :value="String(expression)" class="mono" :aria-label="`${n.name} ${name}`" @change="express(n, [name], $event)" />
        <button type="button" class="drop" :aria-label="`take out ${name}`" @click="change(put(text, [...base, ...n.path, name], null))">×</button>
      </div>
      <button type="button" class="add" @click="addNamed(n)">add {{ n.name }}</button>
    </template>
    <div class="foot">
      <button type="button" class="add brick" @click="change(takenOut())">take out {{ part }}</button>
    </div>
  </div>
</template>

<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import { computed } from 'vue'

import { formOf, type Named, type Setting } from '../document/forms'
import { keyFields, matches, matchOf, type Field } from '../document/match'
import { readable, referencesOf } from '../document/outline'
import { freeAmong, put, rename as renamed, scalar, valueAt, type Path } from '../document/splice'
import type { Schemas } from '../http'
import { loadKinds } from '../use/kinds'
import DraftInput from './DraftInput.vue'
import FieldsGrid from './FieldsGrid.vue'
import MeasureInputs from './MeasureInputs.vue'

const props = defineProps<{
  text: string
  /** Kind and name: step rate. Settings of the job have no name. */
  part: string
  /** The fields of a source, reference or step, as far as they are known. */
  fields: (name: string) => Field[]
  /** Of a source: a row of the sample, and what its events were seen to have. */
  sample: Record<string, unknown> | null
  found: Schemas['Inference']['fields']
}>()
const emit = defineEmits<{ change: [text: string] }>()

void loadKinds()
const kind = computed(() => props.part.split(' ')[0]!)
const base = computed<Path>(() => (props.part === 'settings' ? ['settings'] : [`${kind.value}s`, props.part.slice(kind.value.length + 1)]))
const value = computed(() => (valueAt(props.text, base.value) ?? {}) as Record<string, unknown>)
const form = computed(() => formOf(kind.value, value.value))
const inputs = computed(() => readable(props.text).filter((r) => r !== base.value[1] && !r.endsWith(` of ${String(base.value[1])}`)))
/** The fields of what the step reads. */
const input = computed(() => [value.value.from].flat().flatMap((f) => props.fields(String(f ?? ''))))

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
/** The inputs of a step that reads several; null where it reads one. */
function several(s: Setting): string[] | null {
  const v = dig(s.path)
  return Array.isArray(v) ? v.map(String) : null
}
/** The text without the part; its section goes with the last one. */
function takenOut(): string {
  const section = valueAt(props.text, base.value.slice(0, 1))
  const last = typeof section === 'object' && section !== null && Object.keys(section).length === 1
  return put(props.text, last ? base.value.slice(0, 1) : base.value, null)
}
function change(text: string) {
  emit('change', text)
}
function set(s: Setting, v: string) {
  if (v === shown(s)) return
  const path = [...base.value, ...s.path]
  if (v.trim() === '') return change(put(props.text, path, null))
  const written = s.list || (s.from && (v.includes(',') || several(s))) ? `[${v.split(',').map((x) => x.trim()).filter(Boolean).join(', ')}]` : scalar(v)
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
function entries(n: Named): [string, unknown][] {
  const v = dig(n.path)
  return typeof v === 'object' && v !== null ? Object.entries(v) : []
}
/** What stands for a name within an entry. */
function within(entry: unknown, name: string): string {
  const v = typeof entry === 'object' && entry !== null ? (entry as Record<string, unknown>)[name] : undefined
  return v === undefined || v === null ? '' : String(v)
}
/** An expression as YAML: in quotes unless it is plainly one word, number or call. */
function written(e: string): string {
  return /^([A-Za-z_][A-Za-z0-9_.]*(\([A-Za-z0-9_. ]*\))?|-?\d+(\.\d+)?|(list|map)<\w+>)$/.test(e.trim()) ? e.trim() : `'${e.trim().replaceAll("'", "''")}'`
}
function express(n: Named, at: Path, e: string) {
  change(put(props.text, [...base.value, ...n.path, ...at], written(e)))
}
function rename(n: Named, old: string, name: string) {
  if (name.trim() && name !== old) change(renamed(props.text, [...base.value, ...n.path, old], name.trim()))
}
function addNamed(n: Named) {
  const name = freeAmong(entries(n).map(([k]) => k), n.name)
  change(put(props.text, [...base.value, ...n.path, name], n.of ? n.expression : written(n.expression)))
}
</script>

<style scoped>
.form { font-size: 12px; }
.line { display: grid; grid-template-columns: 120px minmax(0, 1fr); gap: 8px; align-items: center; margin-bottom: 5px; }
.line.two { grid-template-columns: 120px minmax(0, 1fr) 18px; }
.line label { color: var(--soft); }
.several { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 2fr); gap: 4px; }
.title { color: var(--soft); margin: 8px 0 4px; }
.add, .drop { border: 0; background: none; color: var(--sea); font: inherit; cursor: pointer; padding: 2px 0; text-decoration: underline; }
.drop { text-decoration: none; font-size: 15px; color: var(--soft); }
.brick { color: var(--brick); }
.foot { margin-top: 8px; }
</style>
