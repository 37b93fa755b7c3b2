<template>
  <StateNote v-if="!data?.items.length" :loading="loading" :problem="problem">Nothing has happened yet.</StateNote>
  <table v-else class="plain">
    <thead><tr><th>at (UTC)</th><th class="num">run</th><th>what</th><th>how</th></tr></thead>
    <tbody>
      <tr v-for="e in data.items" :key="e.id">
        <td class="nowrap" :title="e.at">{{ moment(e.at) }}</td>
        <td class="num">{{ e.run ?? '' }}</td>
        <td :class="{ bad: e.kind === 'failed', warn: e.kind === 'resuming' || e.kind === 'trouble' }">{{ e.kind }}</td>
        <td>{{ e.text }}<span v-if="e.done_by" class="soft"> · by {{ e.done_by }}</span></td>
      </tr>
    </tbody>
  </table>
</template>

<script setup lang="ts">
import { computed } from 'vue'

import { moment } from '../format'
import type { Schemas } from '../http'
import { useResource } from '../use/resource'
import StateNote from './StateNote.vue'

const props = defineProps<{ job: string }>()
const { data, loading, problem } = useResource<{ items: Schemas['Event'][] }>(computed(() => `/jobs/${encodeURIComponent(props.job)}/history?limit=100`), 3000)
</script>
