<template>
  <div v-if="problem" class="note" :class="{ bad: problem.code !== 'not-allowed' }" :role="problem.code === 'not-allowed' ? 'status' : 'alert'">
    <strong>{{ problem.detail || problem.title }}</strong>
    <div>{{ problem.fix }}</div>
  </div>
  <div v-else-if="loading" class="note" role="status">Loading …</div>
  <div v-else class="note"><slot /></div>
</template>

<script setup lang="ts">
import type { Problem } from '../http'

defineProps<{
  /** Whether the first answer is awaited. */
  loading: boolean
  /** Why there is nothing to show; null otherwise. */
  problem: Problem | null
}>()
</script>

<style scoped>
.note { padding: 18px 4px; color: var(--soft); }
.note.bad { color: var(--brick); }
</style>
