<template>
  <figure ref="frame" class="past">
    <figcaption>
      <strong>{{ title }}</strong>
      <span class="soft">{{ unit }}</span>
      <span class="grow" />
      <slot />
    </figcaption>
    <div v-if="!near" class="chart" />
    <VChart v-else ref="chart" class="chart" :option="option" autoresize role="img" :aria-label="said" @datazoom="zoomed" />
  </figure>
</template>

<script setup lang="ts">
import { LineChart } from 'echarts/charts'
import { DataZoomComponent, GridComponent, LegendComponent, MarkLineComponent, ToolboxComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed, useTemplateRef } from 'vue'
import VChart from 'vue-echarts'

import { figure, moment } from '../format'
import type { Schemas } from '../http'
import { useChartStyle, useDragging } from '../use/chart'
import { useNear } from '../use/near'

use([LineChart, DataZoomComponent, GridComponent, LegendComponent, MarkLineComponent, ToolboxComponent, TooltipComponent, CanvasRenderer])

const props = defineProps<{
  title: string
  unit: string
  /** Lines with their points, by time; values are null where nothing was known. */
  lines: { name: string; points: [number, number | null][] }[]
  /** What happened meanwhile. */
  marks: Schemas['Mark'][]
  since: number
  until: number
}>()
const emit = defineEmits<{
  /** A stretch of time was chosen by dragging. */
  choose: [since: number, until: number]
}>()

const near = useNear(useTemplateRef('frame'))
const zoomed = useDragging(useTemplateRef('chart'), () => [props.since, props.until, props.lines, near.value], (from, to) => {
  if (to - from >= 5000) emit('choose', Math.round(from), Math.round(to))
})

const worst = new Set(['failed', 'resuming', 'trouble', 'checkpoint', 'alarm'])

const style = useChartStyle()
const option = computed(() => {
  const { color, base, axis, legend, tooltip, toolbox } = style.value
  const marks = props.marks.map((m) => ({
    xAxis: Date.parse(m.at), name: m.kind,
    lineStyle: { color: color(worst.has(m.kind) ? 'brick' : 'tide'), type: worst.has(m.kind) ? 'solid' : 'dashed', width: 1 },
  }))
  const values = props.lines.flatMap((l) => l.points.map(([, v]) => v).filter((v) => v !== null))
  const peak = Math.max(0, ...values)
  const half = props.unit === 'ratio' && peak > 0.5
  const whole = ['', 'events', 'rows', 'bytes'].includes(props.unit) && values.every((v) => Number.isInteger(v))
  return {
    ...base,
    grid: { left: 4, right: 10, top: props.lines.length > 1 ? 24 : 8, bottom: 2, containLabel: true },
    legend: { ...legend, show: props.lines.length > 1 },
    tooltip: { ...tooltip, valueFormatter: (v: unknown) => (typeof v === 'number' ? figure(v, props.unit) : 'not known') },
    toolbox,
    xAxis: { type: 'time', min: props.since, max: props.until, ...axis, splitLine: { show: false }, axisLabel: { ...axis.axisLabel, formatter: (t: number) => clock(t) } },
    yAxis: { type: 'value', min: 0, max: peak === 0 || half ? 1 : undefined, interval: half ? 0.5 : peak === 0 ? (whole ? 1 : 0.5) : undefined, minInterval: whole ? 1 : undefined, ...axis, splitNumber: 3, axisLabel: { ...axis.axisLabel, formatter: (v: number) => figure(v, props.unit) } },
    series: props.lines.map((l, n) => ({
      name: l.name, type: 'line', showSymbol: l.points.length < 3, symbolSize: 4, lineStyle: { width: 1.4 }, connectNulls: false,
      data: l.points,
      markLine: n === 0 && marks.length ? { silent: true, symbol: 'none', label: { show: false }, data: marks } : undefined,
    })),
  }
})

const said = computed(() => `${props.title}: ${props.lines.map((l) => {
  const v = [...l.points].reverse().find(([, x]) => x !== null)?.[1]
  return `${l.name} ${v === undefined || v === null ? 'not known' : figure(v, props.unit)}`
}).join(', ')}`)

/** Axis labels: the day too where the stretch is long. */
function clock(t: number): string {
  const iso = new Date(t).toISOString()
  const text = moment(iso)
  if (props.until - props.since > 3 * 86400_000) return iso.slice(5, 10)
  return props.until - props.since > 1800_000 ? iso.slice(11, 16) : text.slice(-8)
}
</script>

<style scoped>
.past { margin: 0; min-width: 0; }
.past figcaption { display: flex; gap: 8px; align-items: baseline; font-size: 12px; }
.grow { flex: 1; }
.chart { height: 150px; width: 100%; cursor: crosshair; }
</style>
