import { computed, onMounted, watch, type Ref } from 'vue'

import { useTheme } from './theme'

/** How charts are drawn in the colours of the page; read anew as these change. */
export function useChartStyle() {
  const { dark } = useTheme()
  return computed(() => {
    void dark.value
    const css = getComputedStyle(document.documentElement)
    const color = (name: string) => css.getPropertyValue(`--${name}`).trim()
    return {
      color,
      base: { animation: false, color: color('series').split(',').map((c) => c.trim()), textStyle: { fontFamily: 'Inter, system-ui, sans-serif' } },
      axis: { axisLine: { lineStyle: { color: color('line') } }, axisLabel: { color: color('soft'), fontSize: 10, hideOverlap: true }, splitLine: { lineStyle: { color: color('line') } } },
      legend: { type: 'scroll', top: 0, left: 0, icon: 'roundRect', itemWidth: 9, itemHeight: 9, textStyle: { color: color('soft'), fontSize: 10 }, pageTextStyle: { color: color('soft') }, pageIconColor: color('sea'), pageIconInactiveColor: color('line'), pageIconSize: 10 },
      // Keys come from events: as rich text they are drawn, never read as HTML.
      tooltip: { trigger: 'axis', renderMode: 'richText', confine: true, backgroundColor: color('sheet'), borderColor: color('line'), textStyle: { color: color('ink'), fontSize: 11 } },
      // Dragging over a chart chooses a stretch of it.
      toolbox: { show: true, showTitle: false, itemSize: 0, feature: { dataZoom: { yAxisIndex: 'none', brushStyle: { color: color('sea-soft'), opacity: 0.6 } } } },
    }
  })
}

type Dragged = { dispatchAction: (action: Record<string, unknown>) => void }
type Zoom = { startValue?: number; endValue?: number; batch?: { startValue?: number; endValue?: number }[] }

/**
 * Lets a hand drag over a chart without a button to press first. drawn is what it is drawn of, and choose is told of what was chosen, from and to, as
 * the axis counts. Gives what the chart's event datazoom is for.
 */
export function useDragging(chart: Readonly<Ref<Dragged | null>>, drawn: () => unknown, choose: (from: number, to: number) => void) {
  const letDrag = () => setTimeout(() => chart.value?.dispatchAction({ type: 'takeGlobalCursor', key: 'dataZoomSelect', dataZoomSelectActive: true }), 50)
  onMounted(letDrag)
  watch(drawn, letDrag) // drawn anew, it forgets
  return (e: unknown) => {
    const z = e as Zoom
    const from = z.startValue ?? z.batch?.[0]?.startValue
    const to = z.endValue ?? z.batch?.[0]?.endValue
    if (from !== undefined && to !== undefined) choose(from, to)
  }
}
