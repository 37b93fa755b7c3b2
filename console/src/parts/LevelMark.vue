<template><span class="level" :class="levelColor(level.rank, level.of)">{{ '▲'.repeat(level.rank) }} {{ level.name }}</span></template>

<script setup lang="ts">
import { levelColor } from '../results'

defineProps<{
  /** What a value is called, and how high that is. */
  level: { name: string; rank: number; of: number }
}>()
</script>

<style scoped>
.level { font-size: 11px; white-space: nowrap; }
.sea { color: var(--sea); }
.amber { color: var(--amber); }
.brick { color: var(--brick); font-weight: 600; }
</style>
