<template>
  <StateNote v-if="!data?.items.length" :loading="loading" :problem="problem">No checkpoint yet.</StateNote>
  <table v-else class="plain">
    <thead><tr><th class="num">epoch</th><th>written (UTC)</th><th class="num">took</th><th class="num">longest stall</th><th class="num">size</th><th class="num">events</th><th>positions, from and to</th><th>folder</th></tr></thead>
    <tbody>
      <tr v-for="c in data.items" :key="c.epoch">
        <td class="num">{{ c.epoch }}</td>
        <td class="nowrap" :title="c.written_at">{{ moment(c.written_at) }}</td>
        <td class="num">{{ Math.round(c.seconds * 1000) }} ms</td>
        <td class="num">{{ (c.longest_stall_seconds * 1000).toFixed(1) }} ms</td>
        <td class="num">{{ bytes(c.bytes) }}</td>
        <td class="num">{{ count(c.partitions.reduce((n, p) => n + p.events, 0)) }}</td>
        <td>{{ c.partitions.filter((p) => p.events > 0).map((p) => `${p.source} ${p.name}: ${place(p.from)} to ${place(p.to)}`).join('; ') || 'nothing was read' }}</td>
        <td>{{ c.kept ? 'kept' : 'pruned' }}</td>
      </tr>
    </tbody>
  </table>
</template>

<script setup lang="ts">
import { computed } from 'vue'

import { bytes, count, moment } from '../format'
import type { Schemas } from '../http'
import { useResource } from '../use/resource'
import StateNote from './StateNote.vue'

const props = defineProps<{ run: number | null }>()
const { data, loading, problem } = useResource<{ items: Schemas['Checkpoint'][] }>(computed(() => (props.run ? `/runs/${props.run}/checkpoints?limit=30` : '')), 5000)

function place(v: unknown): string {
  if (v === null || v === undefined) return 'the beginning'
  if (typeof v === 'object' && 'offset' in v) return count(Number(v.offset))
  return JSON.stringify(v)
}
</script>
