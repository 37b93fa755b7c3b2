<template>
  <VChart class="chart" :option="option" autoresize role="img" :aria-label="label" @click="click" @mouseover="over" @mouseout="emit('point', null)" />
</template>

<script setup lang="ts">
import { CustomChart, LineChart, ScatterChart } from 'echarts/charts'
import { GridComponent, MarkLineComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed } from 'vue'
import VChart from 'vue-echarts'

import { useTheme } from '../use/theme'

use([CustomChart, LineChart, ScatterChart, GridComponent, MarkLineComponent, TooltipComponent, CanvasRenderer])

/** An event: where it came among the others, and its time. */
export interface Dot {
  /** Its number, from 0. */
  arrival: number
  /** Its event time in milliseconds. */
  at: number
  late: boolean
  text: string
  /** Of the right side of a join. */
  right?: boolean
}
/** A window. */
export interface Band {
  /** Milliseconds. */
  start: number
  end: number
  /** Where its first event came, and where its first row did. */
  opened: number
  closed: number
  text: string
  withdrawn: boolean
  /** Whether it has closed; else it is filled up to the newest arrival. */
  done: boolean
  /** Whether the event that is pointed at went into it. */
  lit?: boolean
}

/** A pair of a join: where its rows came, and their times in milliseconds. */
export interface Pair {
  left: number
  right: number
  leftAt: number
  rightAt: number
  text: string
}
/** The times that partners of a row of the left may have, in milliseconds. */
export interface Reached {
  arrival: number
  from: number
  to: number
  text: string
}

const props = defineProps<{
  dots: Dot[]
  pairs?: Pair[]
  reaches?: Reached[]
  /** The watermark after each arrival, in milliseconds; null before there is one. */
  watermark: { arrival: number; at: number }[]
  bands: Band[]
  /** How many arrivals the chart has room for. */
  room: number
  label: string
  /** What the arrivals are called. */
  across: string
}>()
const emit = defineEmits<{
  /** An event was clicked. */
  choose: [arrival: number]
  /** The mouse is over an event; null where it has left. */
  point: [arrival: number | null]
}>()

const { dark } = useTheme()

function click(e: { seriesName?: string; data?: unknown }) {
  if (e.seriesName === 'events' || e.seriesName === 'late') emit('choose', Number((e.data as { value: number[] }).value[0]))
}

function over(e: { seriesName?: string; data?: unknown }) {
  if (e.seriesName === 'events' || e.seriesName === 'late') emit('point', Number((e.data as { value: number[] }).value[0]))
}

function timeOf(ms: number): string {
  return new Date(ms).toISOString().slice(11, 19)
}

const option = computed(() => {
  void dark.value // colours are read anew
  const css = getComputedStyle(document.documentElement)
  const color = (name: string) => css.getPropertyValue(`--${name}`).trim()
  const times = [...props.dots.map((d) => d.at), ...props.watermark.map((w) => w.at), ...props.bands.flatMap((b) => [b.start, b.end]), ...(props.reaches ?? []).flatMap((r) => [r.from, r.to])]
  const least = times.length ? Math.min(...times) : 0
  const most = times.length ? Math.max(...times) : 60_000
  const pad = Math.max(1000, (most - least) * 0.04)
  const axis = { axisLine: { lineStyle: { color: color('line') } }, axisLabel: { color: color('soft'), fontSize: 10 }, splitLine: { lineStyle: { color: color('line'), opacity: 0.6 } }, nameTextStyle: { color: color('soft'), fontSize: 10 } }
  const right = Math.max(1, props.room - 1)
  return {
    animation: false,
    textStyle: { fontFamily: 'Inter, system-ui, sans-serif' },
    grid: { left: 8, right: 16, top: 22, bottom: 22, containLabel: true },
    tooltip: { trigger: 'item', renderMode: 'richText', confine: true, backgroundColor: color('sheet'), borderColor: color('line'), textStyle: { color: color('ink'), fontSize: 11 }, formatter: (p: { data?: { text?: string } }) => p.data?.text ?? '' },
    xAxis: { type: 'value', min: -0.5, max: right + 0.5, minInterval: 1, maxInterval: right < 20 ? 1 : undefined, name: props.across, nameLocation: 'middle', nameGap: 20, ...axis, axisLabel: { ...axis.axisLabel, showMinLabel: false, showMaxLabel: false, formatter: (v: number) => String(v + 1) }, splitLine: { show: false } },
    yAxis: { type: 'value', min: least - pad, max: most + pad, name: 'event time', nameLocation: 'end', nameGap: 8, ...axis, axisLabel: { ...axis.axisLabel, showMinLabel: false, showMaxLabel: false, formatter: timeOf } },
    series: [
      {
        name: 'windows', type: 'custom', z: 1, clip: true,
        data: props.bands.map((b) => ({ value: [b.opened, b.start, b.closed, b.end], text: b.text, withdrawn: b.withdrawn })),
        renderItem: (params: { dataIndex: number; coordSys: { x: number; width: number } }, api: { value: (i: number) => number; coord: (p: number[]) => number[] }) => {
          const b = props.bands[params.dataIndex]!
          const [x0, y0] = api.coord([b.opened - 0.5, b.end]) as [number, number]
          const [x1, y1] = api.coord([b.closed, b.start]) as [number, number]
          const edge = params.coordSys.x + params.coordSys.width
          const open = { type: 'rect', shape: { x: x0, y: y0, width: Math.max(2, x1 - x0), height: y1 - y0 }, style: { fill: color(b.lit ? 'tide' : 'sea-soft'), opacity: b.withdrawn ? 0.25 : b.lit ? 0.75 : 0.6, stroke: color(b.lit ? 'sea' : 'tide'), lineWidth: b.lit ? 2 : 1, lineDash: b.withdrawn ? [3, 3] : undefined } }
          const closed = { type: 'rect', shape: { x: x1, y: y0, width: Math.max(0, edge - x1), height: y1 - y0 }, style: { fill: color('ground'), opacity: b.done ? 0.55 : 0 } }
          const line = { type: 'line', shape: { x1, y1: y0, x2: x1, y2: y1 }, style: { stroke: color('sea'), lineWidth: b.done ? 2 : 0 } }
          const room = y1 - y0 > 11
          const text = { type: 'text', z2: 20, style: { text: room ? b.text : '', x: x1 + 120 > edge ? x1 - 5 : x1 + 5, y: x1 + 120 > edge ? y1 - 14 : y0 + 3, fill: color('sea'), fontSize: 10, align: x1 + 120 > edge ? 'right' : 'left' } }
          return { type: 'group', children: [closed, open, line, text] }
        },
      },
      {
        name: 'reaches', type: 'custom', z: 1, clip: true,
        data: (props.reaches ?? []).map((r) => ({ value: [r.arrival, r.from, r.to], text: r.text })),
        renderItem: (params: { dataIndex: number }, api: { coord: (p: number[]) => number[] }) => {
          const r = props.reaches![params.dataIndex]!
          const [x0, y0] = api.coord([r.arrival - 0.3, r.to]) as [number, number]
          const [x1, y1] = api.coord([r.arrival + 0.3, r.from]) as [number, number]
          return { type: 'rect', shape: { x: x0, y: y0, width: Math.max(3, x1 - x0), height: Math.max(1, y1 - y0) }, style: { fill: color('sea-soft'), opacity: 0.7, stroke: color('tide'), lineWidth: 1 } }
        },
      },
      ...(props.pairs ?? []).map((p) => ({ name: 'pairs', type: 'line' as const, z: 2, symbol: 'none', lineStyle: { color: color('sea'), width: 1.4 }, data: [{ value: [p.left, p.leftAt], text: p.text }, { value: [p.right, p.rightAt], text: p.text }] })),
      { name: 'watermark', type: 'line', step: 'end', z: 3, symbol: 'none', lineStyle: { color: color('amber'), width: 1.6 }, data: props.watermark.map((w) => ({ value: [w.arrival, w.at], text: `watermark ${timeOf(w.at)}` })) },
      { name: 'events', type: 'scatter', z: 4, symbolSize: props.dots.length > 300 ? 4 : 7, itemStyle: { color: color('sea') }, data: props.dots.filter((d) => !d.late && !d.right).map((d) => ({ value: [d.arrival, d.at], text: d.text })) },
      { name: 'events', type: 'scatter', z: 4, symbol: 'diamond', symbolSize: props.dots.length > 300 ? 6 : 10, itemStyle: { color: color('series').split(',')[2]!.trim() }, data: props.dots.filter((d) => !d.late && d.right).map((d) => ({ value: [d.arrival, d.at], text: d.text })) },
      { name: 'late', type: 'scatter', z: 5, symbol: 'path://M2 0L5 3L8 0L10 2L7 5L10 8L8 10L5 7L2 10L0 8L3 5L0 2Z', symbolSize: props.dots.length > 300 ? 7 : 10, itemStyle: { color: color('brick') }, data: props.dots.filter((d) => d.late).map((d) => ({ value: [d.arrival, d.at], text: `late: ${d.text}` })) },
    ],
  }
})
</script>

<style scoped>
.chart { height: 330px; width: 100%; }
</style>
