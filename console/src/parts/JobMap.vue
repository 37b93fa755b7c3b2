<template>
  <div ref="box" class="map" :style="{ height: `${Math.min(420, laid.height + 8)}px` }">
    <VueFlow :nodes="nodes" :edges="edges" :nodes-draggable="false" :nodes-connectable="false" :elements-selectable="false" :nodes-focusable="false" :edges-focusable="false" :zoom-on-scroll="false" :zoom-on-double-click="false" :prevent-scrolling="false" :min-zoom="0.4" :max-zoom="1" @nodes-initialized="settle">
      <template #node-part="{ data }"><MapNode :part="data.part" :figures="figures" :compact="compact" :note="notes?.[data.part.name] ?? null" :chosen="data.part.name === chosen" @choose="emit('choose', data.part.name)" /></template>
    </VueFlow>
  </div>
</template>

<script setup lang="ts">
import '@vue-flow/core/dist/style.css'

import { MarkerType, Position, VueFlow, type Edge, type Node } from '@vue-flow/core'
import { computed, useTemplateRef } from 'vue'

import type { Schemas } from '../http'
import { useFitted } from '../use/fitted'
import { layOut, partHeight, wide, type MapEdge } from './graph'
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

const narrow = 138
const laid = computed(() => (props.compact ? layOut(props.plan, narrow, 26) : layOut(props.plan)))
const nodes = computed<Node[]>(() =>
  laid.value.parts.map((part) => ({
    id: part.name, type: 'part', position: { x: part.x, y: part.y }, data: { part }, sourcePosition: Position.Right, targetPosition: Position.Left,
    width: props.compact ? narrow : wide, height: partHeight,
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

const settle = useFitted(useTemplateRef('box'))
</script>

<style scoped>
.map { width: 100%; }
.map :deep(.vue-flow__pane) { cursor: default; }
</style>
