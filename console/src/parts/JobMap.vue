<template>
  <MapFrame label="Map of the job" :nodes="nodes" :edges="edges" :height="height" :chosen="chosen">
    <template #node-part="{ data }"><MapNode :part="data.part" :figures="figures" :note="notes?.[data.part.name] ?? null" :chosen="data.part.name === chosen" @choose="emit('choose', data.part.name)" /></template>
  </MapFrame>
</template>

<script setup lang="ts">
import { MarkerType, Position, type Edge, type Node } from '@vue-flow/core'
import { computed } from 'vue'

import type { Schemas } from '../http'
import { layOut, type MapEdge } from './graph'
import MapFrame from './MapFrame.vue'
import MapNode from './MapNode.vue'

const props = defineProps<{
  plan: Schemas['Plan']
  /** The run's figures; null without one. */
  figures: Schemas['Figures'] | null
  /** The part that is looked into; empty for none. */
  chosen: string
  /** Whether parts are narrow, for a map beside something else. */
  compact?: boolean
  /** What is said of each part where there are no figures, by its name; sinks begin with "sink ". */
  notes?: Record<string, { text: string; bad: boolean }>
}>()
const emit = defineEmits<{
  /** A part's name; sinks begin with "sink ". */
  choose: [name: string]
}>()

const laid = computed(() => layOut(props.plan, { compact: props.compact ?? false, figures: props.figures !== null }))
/** A long map is not made smaller than it can be read: it needs no more room than its own. */
const height = computed(() => Math.min(420, laid.value.height + 8))
const nodes = computed<Node[]>(() =>
  laid.value.parts.map((part) => ({
    id: part.name, type: 'part', position: { x: part.x, y: part.y }, data: { part }, sourcePosition: Position.Right, targetPosition: Position.Left, width: part.width, height: part.height,
  })),
)

// The thicker a line, the more rows flow along it.
function width(e: MapEdge): number {
  const r = props.figures?.rates
  if (!r) return 1.2
  const rows = e.part ? 0 : (r.sources[e.from]?.read ?? r.steps[e.from]?.out ?? 0)
  return 1.2 + Math.min(4, Math.log10(1 + rows) * 1.2)
}

const edges = computed<Edge[]>(() =>
  laid.value.edges.map((e) => ({
    id: `${e.from} ${e.part} ${e.to}`, source: e.from, target: e.to, label: e.part, markerEnd: MarkerType.Arrow,
    style: { stroke: 'var(--tide)', strokeWidth: width(e), strokeDasharray: e.part ? '4 3' : undefined },
    labelStyle: { fill: 'var(--soft)', fontSize: '10px' }, labelBgStyle: { fill: 'var(--sheet)' },
  })),
)
</script>
