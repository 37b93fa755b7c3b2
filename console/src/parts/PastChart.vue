<template>
  <figure class="past">
    <figcaption>
      <strong>{{ title }}</strong>
      <span class="soft">{{ unit }}</span>
      <span class="grow" />
      <slot />
    </figcaption>
    <VChart ref="chart" class="chart" :option="option" autoresize role="img" :aria-label="said" @datazoom="zoomed" />
  </figure>
</template>

<script setup lang="ts">
import { LineChart } from 'echarts/charts'
import { DataZoomComponent, GridComponent, LegendComponent, MarkLineComponent, ToolboxComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed, onMounted, useTemplateRef, watch } from 'vue'
import VChart from 'vue-echarts'

import { figure, moment } from '../format'
import type { Schemas } from '../http'
import { useTheme } from '../use/theme'

use([LineChart, DataZoomComponent, GridComponent, LegendComponent, MarkLineComponent, ToolboxComponent, TooltipComponent, CanvasRenderer])

const props = defineProps<{
  title: string
  unit: string
  /** Lines with their points; values are null where nothing was known. */
  lines: { name: string; at: number[]; values: (number | null)[] }[]
  /** What happened meanwhile. */
  marks: Schemas['Mark'][]
  since: number
  until: number
}>()
const emit = defineEmits<{
  /** A stretch of time was chosen by dragging. */
  choose: [since: number, until: number]
}>()

const { dark } = useTheme()
const chart = useTemplateRef<InstanceType<typeof VChart>>('chart')

// Dragging over a chart chooses a stretch of time, without a button to press first.
function letDrag() {
  chart.value?.dispatchAction({ type: 'takeGlobalCursor', key: 'dataZoomSelect', dataZoomSelectActive: true })
}
onMounted(() => setTimeout(letDrag, 50))
watch(() => [props.since, props.until, props.lines], () => setTimeout(letDrag, 50))

type Zoom = { startValue?: number; endValue?: number; batch?: { startValue?: number; endValue?: number }[] }
function zoomed(e: unknown) {
  const z = e as Zoom
  const from = z.startValue ?? z.batch?.[0]?.startValue
  const to = z.endValue ?? z.batch?.[0]?.endValue
  if (from !== undefined && to !== undefined && to - from >= 5000) emit('choose', Math.round(from), Math.round(to))
}

const worst = new Set(['failed', 'recovering', 'trouble', 'checkpoint', 'alarm'])

const option = computed(() => {
  void dark.value // colours are read anew
  const css = getComputedStyle(document.documentElement)
  const color = (name: string) => css.getPropertyValue(`--${name}`).trim()
  const axis = { axisLine: { lineStyle: { color: color('line') } }, axisLabel: { color: color('soft'), fontSize: 10, hideOverlap: true }, splitLine: { lineStyle: { color: color('line') } } }
  const marks = props.marks.map((m) => ({
    xAxis: Date.parse(m.at), name: m.kind,
    lineStyle: { color: color(worst.has(m.kind) ? 'brick' : 'tide'), type: worst.has(m.kind) ? 'solid' : 'dashed', width: 1 },
  }))
  return {
    animation: false,
    color: color('series').split(',').map((c) => c.trim()),
    textStyle: { fontFamily: 'Inter, system-ui, sans-serif' },
    grid: { left: 4, right: 10, top: props.lines.length > 1 ? 24 : 8, bottom: 2, containLabel: true },
    legend: { show: props.lines.length > 1, type: 'scroll', top: 0, left: 0, icon: 'roundRect', itemWidth: 9, itemHeight: 9, textStyle: { color: color('soft'), fontSize: 10 }, pageTextStyle: { color: color('soft') }, pageIconColor: color('sea'), pageIconInactiveColor: color('line'), pageIconSize: 10 },
    tooltip: {
      trigger: 'axis', renderMode: 'richText', confine: true, backgroundColor: color('sheet'), borderColor: color('line'), textStyle: { color: color('ink'), fontSize: 11 },
      valueFormatter: (v: unknown) => (typeof v === 'number' ? figure(v, props.unit) : 'not known'),
    },
    toolbox: { show: true, showTitle: false, itemSize: 0, feature: { dataZoom: { yAxisIndex: 'none', brushStyle: { color: color('sea-soft'), opacity: 0.6 } } } },
    xAxis: { type: 'time', min: props.since, max: props.until, ...axis, splitLine: { show: false }, axisLabel: { ...axis.axisLabel, formatter: (t: number) => clock(t) } },
    yAxis: { type: 'value', min: 0, max: (v: { max: number }) => (v.max === 0 || (props.unit === 'share' && v.max > 0.5) ? 1 : undefined), minInterval: props.unit === '' && props.lines.every((l) => l.values.every((v) => v === null || Number.isInteger(v))) ? 1 : undefined, ...axis, splitNumber: 3, axisLabel: { ...axis.axisLabel, formatter: (v: number) => figure(v, props.unit) } },
    series: props.lines.map((l, n) => ({
      name: l.name, type: 'line', showSymbol: l.at.length < 3, symbolSize: 4, lineStyle: { width: 1.4 }, connectNulls: false,
      data: l.at.map((t, i) => [t, l.values[i] ?? null]),
      markLine: n === 0 && marks.length ? { silent: true, symbol: 'none', label: { show: false }, data: marks } : undefined,
    })),
  }
})

const said = computed(() => `${props.title}: ${props.lines.map((l) => {
  const v = [...l.values].reverse().find((x) => x !== null)
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
