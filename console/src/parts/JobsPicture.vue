<template>
  <StateNote v-if="!uses.data.value" :loading="uses.loading.value" :problem="uses.problem.value" />
  <MapFrame v-else class="picture" label="Jobs and the streams between them" :nodes="nodes" :edges="edges" :height="Math.min(1400, laid.height + 8)">
      <template #node-stream="{ data }">
        <div class="stream" :title="data.name"><Handle type="target" :position="Position.Left" />{{ data.label }}<Handle type="source" :position="Position.Right" /></div>
      </template>
      <template #node-job="{ data }">
        <RouterLink class="job" :class="{ wrong: data.wrong }" :to="`/jobs/${encodeURIComponent(data.job.name)}`" :title="data.job.sentence">
          <Handle type="target" :position="Position.Left" />
          <span class="line"><b>{{ data.job.name }}</b><span v-if="data.job.alarms.length" class="alarm">▲ {{ data.job.alarms.length }}</span><span v-else class="soft">{{ data.job.status }}</span></span>
          <span class="soft">{{ data.says }}</span>
          <Handle type="source" :position="Position.Right" />
        </RouterLink>
      </template>
  </MapFrame>
</template>

<script setup lang="ts">
import { Handle, MarkerType, Position, type Edge, type Node } from '@vue-flow/core'
import { computed, ref } from 'vue'

import { count, rate } from '../format'
import type { Schemas } from '../http'
import type { Job } from '../use/jobs'
import { useResource } from '../use/resource'
import { place, type MapEdge } from './graph'
import MapFrame from './MapFrame.vue'
import StateNote from './StateNote.vue'

const props = defineProps<{ jobs: Job[] }>()

const uses = useResource<{ items: Schemas['Use'][] }>(ref('/uses'), 10_000)
const wide = 210
const high = 44

const names = computed(() => props.jobs.map((j) => j.name).join('\n'))
/** Where all stand; it does not change with the figures. */
const laid = computed(() => {
  const jobs = new Set(names.value.split('\n'))
  const some = (uses.data.value?.items ?? []).filter((u) => jobs.has(u.job))
  const streams = [...new Set(some.map((u) => `${u.connection} ${u.stream}`))]
  const parts = [...streams.map((s) => ({ name: `stream ${s}`, x: 0, y: 0, width: wide, height: high })), ...[...jobs].map((j) => ({ name: `job ${j}`, x: 0, y: 0, width: wide, height: high }))]
  const edges = new Map<string, MapEdge>()
  for (const u of some) {
    const stream = `stream ${u.connection} ${u.stream}`
    const e = u.writes ? { from: `job ${u.job}`, to: stream, part: '' } : { from: stream, to: `job ${u.job}`, part: '' }
    edges.set(`${e.from}\n${e.to}`, e)
  }
  const list = [...edges.values()]
  return { parts, edges: list, height: place(parts, list, 70) }
})

function says(j: Job): string {
  const l = j.live
  if (!l) return ''
  return `${rate(l.in_per_second)} in, ${rate(l.out_per_second)} out${l.lag_events ? ` · ${count(l.lag_events)} behind` : ''}`
}

const nodes = computed<Node[]>(() =>
  laid.value.parts.map((p) => {
    const job = p.name.startsWith('job ') ? props.jobs.find((j) => `job ${j.name}` === p.name) : undefined
    const [connection, ...stream] = p.name.slice('stream '.length).split(' ')
    return {
      id: p.name, type: job ? 'job' : 'stream', position: { x: p.x, y: p.y }, sourcePosition: Position.Right, targetPosition: Position.Left, width: wide, height: high,
      data: job ? { job, says: says(job), wrong: job.alarms.length > 0 || job.status === 'failed' || (job.live?.causes.some((c) => c.grave) ?? false) } : { name: `${stream.join(' ')} of ${connection ?? ''}`, label: stream.join(' ') },
    }
  }),
)
const edges = computed<Edge[]>(() =>
  laid.value.edges.map((e) => ({ id: `${e.from}\n${e.to}`, source: e.from, target: e.to, markerEnd: MarkerType.Arrow, style: { stroke: 'var(--tide)', strokeWidth: 1.2 } })),
)

</script>

<style scoped>
.stream { box-sizing: border-box; width: 210px; height: 44px; display: flex; align-items: center; justify-content: center; border: 1px dashed var(--line); border-radius: 22px; font-size: 12px; padding: 0 10px; color: var(--soft); overflow: hidden; white-space: nowrap; text-overflow: ellipsis; }
.job { pointer-events: all; box-sizing: border-box; width: 210px; height: 44px; display: block; border: 1px solid var(--tide); border-radius: 8px; background: var(--ground); padding: 3px 10px; font-size: 12px; color: var(--ink); text-decoration: none; overflow: hidden; white-space: nowrap; }
.job.wrong { border-color: var(--brick); background: var(--brick-soft); }
.job .line { display: flex; justify-content: space-between; gap: 8px; }
.alarm { color: var(--brick); }
</style>
