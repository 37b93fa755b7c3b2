<template>
  <section class="inside" :aria-label="`Inside ${label}`">
    <header>
      <h2>Inside {{ label }}</h2>
      <span v-if="about" class="soft" :title="about.written">written {{ moment(about.written) }} UTC · W {{ about.watermark ? moment(about.watermark) : 'not there yet' }}</span>
      <span class="grow" />
      <ElButton size="small" text @click="emit('close')">Close</ElButton>
    </header>
    <StateNote v-if="!steps.length" :loading="false" :problem="null">No step of this job keeps anything.</StateNote>
    <template v-else>
      <div class="tools">
        <ElSelect v-model="step" size="small" aria-label="Step" class="step"><ElOption v-for="s in steps" :key="s" :label="`step ${s}`" :value="s" /></ElSelect>
        <ElRadioGroup v-model="view" size="small" aria-label="What is shown">
          <ElRadioButton value="rows">Rows</ElRadioButton>
          <ElRadioButton value="spans">Windows</ElRadioButton>
          <ElRadioButton value="skew">Skew</ElRadioButton>
          <ElRadioButton value="compare">Compare</ElRadioButton>
        </ElRadioGroup>
        <ElSelect v-if="view === 'compare'" v-model="other" size="small" placeholder="with …" aria-label="Compare with" class="step">
          <ElOption v-for="o in others.filter((x) => x.place !== checkpoint)" :key="o.place" :label="`with ${o.label}`" :value="o.place" />
        </ElSelect>
        <template v-if="view === 'rows' || view === 'compare'">
          <ElInput v-model="key" size="small" clearable placeholder="key: FIELD=VALUE, or the value" aria-label="Key" class="key" />
          <ElCheckbox v-if="view === 'rows'" v-model="raw" size="small" label="accumulators" />
        </template>
        <span class="grow" />
        <span v-if="view === 'rows'" class="soft">all of it: <a v-for="f in ['csv', 'parquet', 'ndjson']" :key="f" class="file" :href="address(`${at}?${query}&format=${f}`)" download>{{ f }}</a></span>
      </div>

      <template v-if="view === 'rows'">
        <StateNote v-if="!rows.data.value?.rows.length" :loading="rows.loading.value" :problem="rows.problem.value">It keeps no row{{ key ? ' of this key' : '' }}.</StateNote>
        <template v-else>
          <RowsGrid :fields="fieldsOf(rows.data.value.fields)" :rows="rows.data.value.rows as Record<string, unknown>[]" :height="340" />
          <p v-if="rows.data.value.more" class="soft">The first {{ rows.data.value.rows.length }} rows. A key narrows them; the files have all.</p>
        </template>
      </template>

      <template v-else-if="view === 'spans'">
        <StateNote v-if="!spans.data.value?.spans.length" :loading="spans.loading.value" :problem="spans.problem.value">It keeps nothing.</StateNote>
        <div v-else class="scroll some" tabindex="0">
          <table class="plain" aria-label="Windows and other spans">
            <thead><tr><th>begins (UTC)</th><th class="num">rows of state</th><th class="num">rows taken</th><th>ends at W</th><th class="num">W has to go</th></tr></thead>
            <tbody>
              <tr v-for="(s, i) in spans.data.value.spans" :key="i">
                <td class="nowrap" :title="s.start ?? ''">{{ s.start ? moment(s.start) : '–' }}</td>
                <td class="num">{{ count(s.keys) }}</td>
                <td class="num">{{ count(s.rows) }}</td>
                <td class="nowrap" :title="s.until ?? ''">{{ s.until ? moment(s.until) : '–' }}</td>
                <td class="num">{{ s.in_seconds === null || s.in_seconds === undefined ? '–' : span(s.in_seconds) }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </template>

      <template v-else-if="view === 'skew'">
        <StateNote v-if="!skew.data.value" :loading="skew.loading.value" :problem="skew.problem.value" />
        <div v-else class="skew">
          <div>
            <p class="soft">{{ count(skew.data.value.keys) }} keys, {{ count(skew.data.value.rows) }} rows taken, {{ bytes(skew.data.value.bytes) }}</p>
            <table class="plain" aria-label="Lanes">
              <thead><tr><th class="num">lane</th><th class="num">keys</th><th class="num">rows taken</th><th class="num">of all</th></tr></thead>
              <tbody>
                <tr v-for="l in skew.data.value.lanes" :key="l.number"><td class="num">{{ l.number }}</td><td class="num">{{ count(l.keys) }}</td><td class="num">{{ count(l.rows) }}</td><td class="num">{{ ofAll(l.rows) }}</td></tr>
              </tbody>
            </table>
          </div>
          <table class="plain" aria-label="Heaviest keys">
            <thead><tr><th>heaviest keys</th><th class="num">rows taken</th><th class="num">of all</th></tr></thead>
            <tbody>
              <tr v-for="h in skew.data.value.heaviest" :key="h.key"><td>{{ h.key }}</td><td class="num">{{ count(h.rows) }}</td><td class="num">{{ ofAll(h.rows) }}</td></tr>
            </tbody>
          </table>
          <div>
            <p class="soft">rows taken by share of the key space, 0 to 239</p>
            <svg viewBox="0 0 240 60" preserveAspectRatio="none" class="shares" role="img" :aria-label="`Rows taken by share; the heaviest has ${ofAll(top)}`">
              <rect v-for="s in skew.data.value.shares" :key="s.number" :x="s.number" :y="60 - height(s.rows)" width="0.8" :height="height(s.rows)" fill="var(--sea)"><title>share {{ s.number }}: {{ count(s.rows) }} rows, {{ count(s.keys) }} keys</title></rect>
            </svg>
          </div>
        </div>
      </template>

      <template v-else>
        <StateNote v-if="!other" :loading="false" :problem="null">Choose what to compare {{ label }} with.</StateNote>
        <StateNote v-else-if="!compared.data.value" :loading="compared.loading.value" :problem="compared.problem.value" />
        <template v-else>
          <p>From {{ labelOf(pair[0]!) }} to {{ labelOf(pair[1]!) }}: {{ count(compared.data.value.came) }} came, {{ count(compared.data.value.changed) }} changed, {{ count(compared.data.value.went) }} went, {{ count(compared.data.value.same) }} are the same.</p>
          <RowsGrid v-if="differences.length" :fields="['what text', ...fieldsOf(compared.data.value.fields)]" :rows="differences" :height="340" />
        </template>
      </template>
    </template>
  </section>
</template>

<script setup lang="ts">
import { ElButton, ElCheckbox, ElInput, ElOption, ElRadioButton, ElRadioGroup, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'

import { bytes, count, moment, percent, span } from '../format'
import { address, part, type Schemas } from '../http'
import { useResource } from '../use/resource'
import RowsGrid from './RowsGrid.vue'
import StateNote from './StateNote.vue'

const props = defineProps<{
  job: string
  /** Its epoch, or pin:NAME. */
  checkpoint: string
  /** Those that it can be compared with. */
  others: { place: string; label: string; epoch: number }[]
  /** Names of the steps that keep something. */
  steps: string[]
}>()
const emit = defineEmits<{ close: [] }>()

const step = ref(props.steps[0] ?? '')
watch(() => props.steps, (s) => { if (!s.includes(step.value)) step.value = s[0] ?? '' })
const view = ref<'rows' | 'spans' | 'skew' | 'compare'>('rows')
const key = ref('')
const raw = ref(false)
const other = ref('')

function labelOf(place: string): string {
  return place.startsWith('pin:') ? `pin ${place.slice(4)}` : `checkpoint ${place}`
}
const label = computed(() => labelOf(props.checkpoint))
const at = computed(() => `/jobs/${part(props.job)}/state/${part(step.value)}`)
const query = computed(() => {
  const q = new URLSearchParams({ checkpoint: props.checkpoint })
  if (key.value) q.set('key', key.value)
  if (raw.value && view.value === 'rows') q.set('raw', 'true')
  return q.toString()
})
function shown(name: string, path: () => string) {
  return computed(() => (step.value && view.value === name ? path() : ''))
}
const rows = useResource<Schemas['StateRows']>(shown('rows', () => `${at.value}?${query.value}&limit=200`))
const spans = useResource<Schemas['StateSpans']>(shown('spans', () => `${at.value}/spans?checkpoint=${part(props.checkpoint)}`))
const skew = useResource<Schemas['StateSkew']>(shown('skew', () => `${at.value}/skew?checkpoint=${part(props.checkpoint)}`))
/** The two that are compared, the older first. */
const pair = computed(() => (other.value ? [props.checkpoint, other.value].sort((a, b) => epochOf(a) - epochOf(b)) : []))
function epochOf(place: string): number { // those of checkpoints stay, also when they are in the list no more
  return place.startsWith('pin:') ? (props.others.find((o) => o.place === place)?.epoch ?? 0) : Number(place)
}
const compared = useResource<Schemas['StateCompared']>(
  shown('compare', () => {
    const [was, is] = pair.value
    if (!was || !is) return ''
    const q = new URLSearchParams({ from: was, checkpoint: is, limit: '200' })
    if (key.value) q.set('key', key.value)
    return `${at.value}/compare?${q}`
  }),
)
const about = computed(() => rows.data.value ?? spans.data.value ?? skew.data.value)

function fieldsOf(fields: Schemas['StateField'][]): string[] {
  return fields.map((f) => `${f.name} ${f.kind}`)
}
const differences = computed(() =>
  (compared.data.value?.differences ?? []).flatMap((d) => {
    const was = d.was as Record<string, unknown> | null
    const is = d.is as Record<string, unknown> | null
    if (was && is) return [{ what: '− was', ...was }, { what: '+ is', ...is }]
    return is ? [{ what: '○ came', ...is }] : [{ what: '✕ went', ...was }]
  }),
)
const top = computed(() => Math.max(0, ...(skew.data.value?.shares.map((s) => s.rows) ?? [])))
function height(n: number): number {
  return top.value ? (56 * n) / top.value : 0
}
function ofAll(n: number): string {
  return percent(n / Math.max(1, skew.data.value?.rows ?? 1))
}
</script>

<style scoped>
.inside { margin-top: 14px; padding-top: 10px; border-top: 1px solid var(--line); }
.inside > header { display: flex; align-items: center; gap: 10px; }
.tools { display: flex; align-items: center; gap: 10px; margin: 8px 0; flex-wrap: wrap; }
.step { width: 170px; }
.key { width: 230px; }
.file { margin-left: 8px; }
.some { max-height: 340px; }
.skew { display: grid; grid-template-columns: 1fr 1.3fr 1.2fr; gap: 24px; align-items: start; }
.shares { width: 100%; height: 90px; display: block; }
</style>
