<template>
  <ol class="steps" aria-label="Steps">
    <li v-for="c in checks" :key="c.name" :class="{ bad: c.state === 'no', soft: c.state === 'not asked' }">
      <strong>{{ sign(c.state) }} {{ c.name }}</strong> <span class="text">{{ c.text || c.state }}</span>
    </li>
  </ol>
</template>

<script setup lang="ts">
import type { Schemas } from '../http'

defineProps<{ checks: Schemas['Check'][] }>()

function sign(state: string): string {
  return state === 'yes' ? '✓' : state === 'no' ? '✕' : '○'
}
</script>

<style scoped>
.steps { list-style: none; margin: 0; padding: 2px 0 6px; display: grid; gap: 2px; font-size: 12px; }
.text { overflow-wrap: anywhere; }
</style>
