<template>
  <span class="status" :class="look.tone">
    <svg width="10" height="10" viewBox="0 0 10 10" aria-hidden="true"><path :d="look.shape" fill="currentColor" /></svg>
    {{ status === 'saved' ? 'never started' : status }}
  </span>
</template>

<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{
  /** A run's status, or saved. */
  status: string
}>()

// A shape for each: a sail for what goes on, a ring for what begins, a square for what has stopped, a
// tick for what is done, a cross for what failed.
const shapes: Record<string, { shape: string; tone: string }> = {
  running: { shape: 'M1 0L9 5L1 10Z', tone: 'good' },
  starting: { shape: 'M5 0a5 5 0 1 0 .01 0ZM5 3a2 2 0 1 1-.01 0Z', tone: 'calm' },
  resuming: { shape: 'M5 0L10 9H0Z', tone: 'warn' },
  stopping: { shape: 'M1 1H4V9H1ZM6 1H9V9H6Z', tone: 'calm' },
  draining: { shape: 'M0 2H10L5 9Z', tone: 'calm' },
  stopped: { shape: 'M1 1H9V9H1Z', tone: 'calm' },
  finished: { shape: 'M1 5L2.500 3.500L4.200 5.500L8 1L9.500 2.300L4.300 8.500Z', tone: 'good' },
  failed: { shape: 'M1 2L2 1L5 4L8 1L9 2L6 5L9 8L8 9L5 6L2 9L1 8L4 5Z', tone: 'bad' },
  saved: { shape: 'M0 4H10V6H0Z', tone: 'calm' },
}

const look = computed(() => shapes[props.status] ?? shapes.saved)
</script>

<style scoped>
.status { display: inline-flex; align-items: center; gap: 6px; padding: 1px 10px 1px 8px; border-radius: 20px; font-weight: 600; font-size: 12px; white-space: nowrap; background: var(--ground); color: var(--soft); }
.good { background: var(--sea-soft); color: var(--sea); }
.warn { background: var(--amber-soft); color: var(--amber); }
.bad { background: var(--brick-soft); color: var(--brick); }
</style>
