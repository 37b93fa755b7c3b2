<template>
  <svg class="small" viewBox="0 0 200 26" preserveAspectRatio="none" role="img" :aria-label="label">
    <polyline v-if="points" :points="points" fill="none" stroke="var(--sea)" stroke-width="1.5" vector-effect="non-scaling-stroke" />
  </svg>
</template>

<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{
  /** Values at equal distances; null where there is none. */
  values: (number | null)[]
  /** What it shows, for those who do not see it. */
  label: string
}>()

const points = computed(() => {
  const known = props.values.filter((v): v is number => v !== null)
  if (known.length < 2) return ''
  const top = Math.max(...known, 1e-9)
  const low = Math.min(...known, 0)
  return props.values
    .map((v, i) => (v === null ? '' : `${((i / (props.values.length - 1)) * 200).toFixed(1)},${(24 - ((v - low) / (top - low)) * 22).toFixed(1)}`))
    .filter(Boolean)
    .join(' ')
})
</script>

<style scoped>
.small { width: 100%; height: 24px; display: block; margin: 2px 0; }
</style>
