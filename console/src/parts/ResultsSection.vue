<template>
  <section class="sheet results" aria-label="Results">
    <header>
      <h2>Results</h2>
      <ElSelect v-model="step" size="small" class="pick" aria-label="Step"><ElOption v-for="s in steps" :key="s" :value="s" :label="`of ${s}`" /></ElSelect>
      <ElSelect v-if="measures.length" v-model="measure" size="small" class="pick" aria-label="Measure"><ElOption v-for="m in measures" :key="m" :value="m" :label="m" /></ElSelect>
      <span class="grow" />
      <ElInput v-model="filter" size="small" class="pick" placeholder="filter" clearable aria-label="Filter rows" />
      <ElButton size="small" :disabled="rows.length === 0" @click="download">CSV</ElButton>
    </header>
    <div class="two">
      <div class="table">
        <RowsTable :run="run" :step="step" :rows-shown="14" :filter="filter" @rows="take" />
      </div>
      <div>
        <ResultsChart v-if="measure && rows.length" :rows="rows" :keys="keyNames" :measure="measure" />
      </div>
    </div>
  </section>
</template>

<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, defineAsyncComponent, ref, shallowRef, watch } from 'vue'

import type { Schemas } from '../http'
import type { Row } from '../use/runs'
import RowsTable from './RowsTable.vue'

const ResultsChart = defineAsyncComponent(() => import('./ResultsChart.vue'))

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
const fields = shallowRef<{ name: string; type: string }[]>([])
const keyNames = shallowRef<string[]>([])
const measure = ref('')

function take(r: Row[], f: { name: string; type: string }[], key: string[]) {
  rows.value = r
  fields.value = f
  keyNames.value = key
}

const windowed = computed(() => fields.value.some((f) => f.name === 'window_end'))
const measures = computed(() => (windowed.value ? fields.value.filter((f) => ['int', 'double'].includes(f.type) && !keyNames.value.includes(f.name)).map((f) => f.name) : []))
watch(measures, (list) => {
  if (!list.includes(measure.value)) measure.value = list[Math.min(1, list.length - 1)] ?? ''
})

// Texts that a spreadsheet would take for a formula are marked as text.
function csvCell(v: unknown): string {
  if (v === null || v === undefined) return ''
  let s = String(v)
  if (typeof v === 'string' && /^[=+\-@\t\r]/.test(s)) s = `'${s}`
  return /[",\n\r]/.test(s) ? `"${s.replaceAll('"', '""')}"` : s
}

function download() {
  const names = fields.value.map((f) => f.name)
  const lines = [names.map(csvCell).join(','), ...rows.value.map((r) => names.map((n) => csvCell(r.row[n])).join(','))]
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([lines.join('\n') + '\n'], { type: 'text/csv' }))
  link.download = `${props.plan.job}-${step.value}.csv`
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<style scoped>
.results { margin-top: 14px; }
.pick { width: 150px; }
.two { display: grid; grid-template-columns: minmax(0, 1.5fr) minmax(0, 1fr); gap: 18px; }
.table { min-height: 120px; }
</style>
