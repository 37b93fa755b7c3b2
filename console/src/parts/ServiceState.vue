<template>
  <div v-if="problem">service: no answer</div>
  <template v-else-if="status">
    <div>PostgreSQL: {{ status.database.well ? 'well' : 'no answer' }}</div>
    <div v-for="(h, name) in status.connections" :key="name">{{ name }}: {{ h.well ? 'reached' : 'no answer' }}</div>
    <div>{{ status.version }}</div>
  </template>
</template>

<script setup lang="ts">
import type { Problem } from '../http'
import type { Status } from '../use/jobs'

defineProps<{
  /** The service's status; null before the first answer. */
  status: Status | null
  /** Why the service does not answer; null when it does. */
  problem: Problem | null
}>()
</script>
