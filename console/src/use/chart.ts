import { computed } from 'vue'

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

export type Dragged = { dispatchAction: (action: Record<string, unknown>) => void }

/** Lets a hand drag over a chart without a button to press first; called again whenever the chart was drawn anew. */
export function letDrag(chart: Dragged | null) {
  chart?.dispatchAction({ type: 'takeGlobalCursor', key: 'dataZoomSelect', dataZoomSelectActive: true })
}

type Zoom = { startValue?: number; endValue?: number; batch?: { startValue?: number; endValue?: number }[] }

/** What was chosen by dragging: from and to, as the axis counts; null for nothing. */
export function dragged(e: unknown): [number, number] | null {
  const z = e as Zoom
  const from = z.startValue ?? z.batch?.[0]?.startValue
  const to = z.endValue ?? z.batch?.[0]?.endValue
  return from !== undefined && to !== undefined ? [from, to] : null
}
