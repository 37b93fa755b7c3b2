<template>
  <VChart class="chart" :option="option" autoresize role="img" :aria-label="`${measure} in the last windows`" />
</template>

<script setup lang="ts">
import { BarChart, LineChart } from 'echarts/charts'
import { GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed } from 'vue'
import VChart from 'vue-echarts'

import { moment } from '../format'
import type { Row } from '../use/runs'
import { useTheme } from '../use/theme'

use([BarChart, LineChart, GridComponent, LegendComponent, TooltipComponent, CanvasRenderer])

const props = defineProps<{
  /** Published rows, newest first. */
  rows: Row[]
  /** The fields of the key. */
  keys: string[]
  measure: string
}>()

const windows = 30
const most = 12 // lines that can still be told apart
const { dark } = useTheme()

const option = computed(() => {
  void dark.value // colours are read anew
  const css = getComputedStyle(document.documentElement)
  const color = (name: string) => css.getPropertyValue(`--${name}`).trim()
  const ends = [...new Set(props.rows.map((r) => String(r.row.window_end)))].sort().slice(-windows)
  const by = new Map<string, Map<string, number | null>>()
  for (const r of [...props.rows].reverse()) { // a newer row of the same window counts
    const key = props.keys.map((k) => String(r.row[k])).join(', ') || 'all'
    if (!by.has(key)) by.set(key, new Map())
    by.get(key)?.set(String(r.row.window_end), r.row[props.measure] as number | null)
  }
  const keys = [...by.keys()].sort().slice(0, most)
  const axis = { axisLine: { lineStyle: { color: color('line') } }, axisLabel: { color: color('soft'), fontSize: 10 }, splitLine: { lineStyle: { color: color('line') } } }
  return {
    animation: false,
    color: color('series').split(',').map((c) => c.trim()),
    textStyle: { fontFamily: 'Inter, system-ui, sans-serif' },
    grid: { left: 8, right: 12, top: 34, bottom: 4, containLabel: true },
    legend: { type: 'scroll', top: 0, icon: 'roundRect', itemWidth: 10, itemHeight: 10, textStyle: { color: color('soft'), fontSize: 11 }, pageTextStyle: { color: color('soft') }, pageIconColor: color('sea'), pageIconInactiveColor: color('line'), pageIconSize: 11 },
    // Keys come from events: as rich text they are drawn, never read as HTML.
    tooltip: { trigger: 'axis', renderMode: 'richText', confine: true, backgroundColor: color('sheet'), borderColor: color('line'), textStyle: { color: color('ink'), fontSize: 11 } },
    xAxis: { type: 'category', data: ends.map((e) => moment(e)), ...axis },
    yAxis: { type: 'value', scale: keys.length > 1, ...axis },
    series: keys.map((k) => ({
      name: k,
      type: keys.length > 1 ? 'line' : 'bar',
      showSymbol: ends.length < 12,
      symbolSize: 5,
      lineStyle: { width: 1.6 },
      data: ends.map((e) => by.get(k)?.get(e) ?? null),
    })),
  }
})
</script>

<style scoped>
.chart { height: 330px; width: 100%; }
</style>
