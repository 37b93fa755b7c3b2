<template>
  <section class="sheet results" aria-label="Results">
    <header>
      <h2>Results</h2>
      <ElSelect v-model="step" size="small" class="pick" aria-label="Step"><ElOption v-for="s in steps" :key="s" :value="s" :label="`of ${s}`" /></ElSelect>
      <ElSelect v-if="measures.length" v-model="shownMeasures" size="small" class="wide" multiple collapse-tags tag-type="primary" placeholder="no measure" aria-label="Measures"><ElOption v-for="m in measures" :key="m.name" :value="m.name" :label="m.name" /></ElSelect>
      <template v-if="measures.length">
        <ElSelect v-model="count" size="small" class="pick" aria-label="How many windows"><ElOption v-for="w in spans" :key="w.of" :value="w.of" :label="w.name" /></ElSelect>
        <ElButton v-if="from" size="small" @click="from = ''">Back from {{ moment(from) }} to {{ moment(until) }}</ElButton>
        <ElSelect v-if="view.all.length > 1" v-model="most" size="small" class="pick" aria-label="How many keys" :disabled="named.length > 0"><ElOption v-for="n in [6, 12, 24, 48]" :key="n" :value="n" :label="`${n} keys`" /></ElSelect>
        <ElSelectV2 v-if="view.all.length > 1" v-model="named" :options="view.all.map((k) => ({ value: k, label: k }))" size="small" class="wide" multiple collapse-tags filterable tag-type="primary" placeholder="or these keys" aria-label="Keys" />
        <ElRadioGroup v-model="form" size="small" aria-label="Form"><ElRadioButton value="lines">lines</ElRadioButton><ElRadioButton value="bars">bars</ElRadioButton></ElRadioGroup>
        <ElSelect v-model="decimals" size="small" class="small" aria-label="Decimals"><ElOption v-for="n in [0, 1, 2, 3, 6]" :key="n" :value="n" :label="n === 1 ? '1 decimal' : `${n} decimals`" /></ElSelect>
      </template>
      <span class="grow" />
      <ElInput v-model="filter" size="small" class="pick" placeholder="filter" clearable aria-label="Filter rows" />
      <ElButton size="small" :disabled="shown.length === 0" @click="download">CSV</ElButton>
    </header>
    <p v-if="overlap && measures.length" class="soft said" role="note">Windows overlap: an event counts in several of them. Values of neighbouring windows are not to be added up.</p>
    <p v-if="measures.length && view.rest.length" class="soft said" :title="view.rest.join(', ')">{{ view.keys.length }} of {{ view.all.length }} keys are drawn. Not drawn: {{ view.rest.slice(0, 12).join(', ') }}{{ view.rest.length > 12 ? `, and ${view.rest.length - 12} more` : '' }}.</p>
    <div :class="{ two: measures.length > 0 }">
      <div class="table">
        <RowsTable :run="run" :step="step" :rows-shown="14" :filter="filter" :decimals="measures.length ? decimals : undefined" :pick="pick" @rows="take" />
      </div>
      <div v-if="rows.length && measures.length">
        <ResultsChart v-for="m in drawn" :key="m.name" :measure="m" :windows="view.windows" :lines="lines(rows, keyNames, m.name, view.windows, view.keys)" :bars="form === 'bars'" :decimals="decimals" :height="drawn.length === 1 ? 330 : 180" :titled="drawn.length > 1" @choose="choose" />
      </div>
    </div>
  </section>
</template>

<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElRadioButton, ElRadioGroup, ElSelect, ElSelectV2 } from 'element-plus'
import { computed, defineAsyncComponent, ref, shallowRef, watch } from 'vue'

import { moment } from '../format'
import type { Schemas } from '../http'
import { chosen, csv, keyOf, lines, type Field } from '../results'
import type { Row } from '../use/runs'
import RowsTable from './RowsTable.vue'

const chart = import('./ResultsChart.vue') // begun at once, needed a little later
const ResultsChart = defineAsyncComponent(() => chart)

const props = defineProps<{
  run: number
  plan: Schemas['Plan']
}>()

const steps = computed(() => (props.plan.steps.length ? props.plan.steps : props.plan.sources).map((s) => s.name))
const step = ref('')
// The last step with windows is what people look for.
watch(
  () => props.plan,
  (p) => (step.value = [...p.steps].reverse().find((s) => s.state !== 'none')?.name ?? steps.value.at(-1) ?? ''),
  { immediate: true },
)

const filter = ref('')
const rows = shallowRef<Row[]>([])
const fields = shallowRef<Field[]>([])
const keyNames = shallowRef<string[]>([])
function take(r: Row[], f: Field[], key: string[]) {
  rows.value = r
  fields.value = f
  keyNames.value = key
}

const windowed = computed(() => fields.value.some((f) => f.name === 'window_end'))
const measures = computed(() => (windowed.value ? fields.value.filter((f) => ['int', 'double'].includes(f.type) && !keyNames.value.includes(f.name)) : []))
const overlap = computed(() => props.plan.steps.find((s) => s.name === step.value)?.overlap ?? false)
const shownMeasures = ref<string[]>([])
watch(() => measures.value.map((m) => m.name).join(), () => {
  const names = measures.value.map((m) => m.name)
  shownMeasures.value = shownMeasures.value.filter((m) => names.includes(m))
  // What has levels is looked at first.
  const first = measures.value.find((m) => m.levels?.length)?.name ?? names[Math.min(1, names.length - 1)]
  if (shownMeasures.value.length === 0 && first) shownMeasures.value = [first]
})
const drawn = computed(() => measures.value.filter((m) => shownMeasures.value.includes(m.name)))

const spans = [{ of: 10, name: 'last 10 windows' }, { of: 30, name: 'last 30 windows' }, { of: 100, name: 'last 100 windows' }, { of: 0, name: 'all that are kept' }]
const count = ref(30)
const from = ref('')
const until = ref('')
function choose(a: string, b: string) {
  from.value = a
  until.value = b
}
watch(count, () => (from.value = ''))
const most = ref(12)
const named = ref<string[]>([])
watch(step, () => {
  from.value = ''
  named.value = []
})
const form = ref('lines')
const decimals = ref(3)

const view = computed(() => chosen(rows.value, keyNames.value, { windows: count.value, from: from.value, until: until.value, keys: named.value, most: most.value }))

/** Whether a row is of the windows and keys that were chosen; without windows all are. */
const pick = computed(() => {
  if (!windowed.value) return undefined
  const windows = new Set(view.value.windows)
  const keys = named.value.length ? new Set(named.value) : null
  return (r: Row) => windows.has(String(r.row.window_end)) && (!keys || keys.has(keyOf(r.row, keyNames.value)))
})
const shown = computed(() => {
  const wanted = filter.value.toLowerCase()
  return rows.value.filter((r) => (!pick.value || pick.value(r)) && (!wanted || Object.values(r.row).some((v) => String(v).toLowerCase().includes(wanted))))
})

function download() {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([csv(shown.value, fields.value.map((f) => f.name))], { type: 'text/csv' }))
  link.download = `${props.plan.job}-${step.value}.csv`
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<style scoped>
.results { margin-top: 14px; }
.results header { flex-wrap: wrap; row-gap: 6px; }
.pick { width: 140px; }
.small { width: 110px; }
.wide { width: 170px; }
.said { margin: 0 0 6px; font-size: 12px; }
.two { display: grid; grid-template-columns: minmax(0, 1.5fr) minmax(0, 1fr); gap: 18px; }
.table { min-height: 120px; }
</style>
