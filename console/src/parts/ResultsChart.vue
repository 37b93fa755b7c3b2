<template>
  <figure class="results-chart">
    <figcaption v-if="titled"><strong>{{ measure.name }}</strong></figcaption>
    <VChart ref="chart" class="chart" :style="{ height: `${height}px` }" :option="option" autoresize role="img" :aria-label="said" @datazoom="zoomed" />
  </figure>
</template>

<script setup lang="ts">
import { BarChart, LineChart } from 'echarts/charts'
import { DataZoomComponent, GridComponent, LegendComponent, MarkLineComponent, ToolboxComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed, useTemplateRef } from 'vue'
import VChart from 'vue-echarts'

import { moment } from '../format'
import { levelColor, levelOf, type Field } from '../results'
import { useChartStyle, useDragging } from '../use/chart'

use([BarChart, LineChart, DataZoomComponent, GridComponent, LegendComponent, MarkLineComponent, ToolboxComponent, TooltipComponent, CanvasRenderer])

const props = defineProps<{
  measure: Field
  /** The ends of the windows, oldest first. */
  windows: string[]
  /** A line for each key: a value for each window, null for none. */
  lines: { name: string; values: (number | null)[] }[]
  bars: boolean
  decimals: number
  height: number
  /** Whether the chart says which measure it is of. */
  titled: boolean
}>()
const emit = defineEmits<{
  /** Windows were chosen by dragging: the ends of the first and the last. */
  choose: [from: string, until: string]
}>()

const zoomed = useDragging(useTemplateRef('chart'), () => [props.windows, props.lines, props.bars], (first, last) => {
  const from = props.windows[first]
  const until = props.windows[last]
  if (from && until && last - first < props.windows.length - 1) emit('choose', from, until)
})

const style = useChartStyle()
const option = computed(() => {
  const { color, base, axis, legend, tooltip, toolbox } = style.value
  const levels = props.measure.levels ?? []
  const several = props.lines.length > 1
  const text = (v: unknown) => {
    if (typeof v !== 'number') return 'no row'
    const level = levelOf(v, levels)
    return v.toFixed(props.decimals) + (level ? ` ${level.name}` : '')
  }
  return {
    ...base,
    grid: { left: 4, right: 12, top: several ? 26 : 10, bottom: 2, containLabel: true },
    legend: { ...legend, show: several },
    tooltip: { ...tooltip, valueFormatter: text },
    toolbox,
    xAxis: { type: 'category', data: props.windows.map((e) => moment(e)), ...axis },
    yAxis: { type: 'value', scale: !props.bars, ...axis },
    series: props.lines.map((l, n) => ({
      name: l.name,
      type: props.bars ? 'bar' : 'line',
      showSymbol: props.windows.length < 12,
      symbolSize: 5,
      lineStyle: { width: 1.6 },
      data: l.values,
      markLine: n === 0 && levels.length
        ? { silent: true, symbol: 'none', data: levels.map((x, i) => ({ yAxis: x.from, name: x.name, label: { formatter: `${'▲'.repeat(i + 1)} ${x.name}`, position: 'insideStartTop', color: color(levelColor(i + 1, levels.length)), fontSize: 10 }, lineStyle: { color: color(levelColor(i + 1, levels.length)), type: 'dashed', width: 1 } })) }
        : undefined,
    })),
  }
})

const said = computed(() => `${props.measure.name} of ${props.lines.length === 1 ? (props.lines[0]?.name ?? '') : `${props.lines.length} keys`} in ${props.windows.length} windows`)
</script>

<style scoped>
.results-chart { margin: 0; min-width: 0; }
.results-chart figcaption { font-size: 12px; }
.chart { width: 100%; cursor: crosshair; }
</style>
