<template>
  <span class="bars">
    <span v-for="v in values" :key="v.value" class="bar" :title="`${v.value}: ${percent(v.ratio)}`"><span class="fill" :style="{ width: `${Math.max(2, v.ratio * 60)}px` }" />{{ v.value }} <span class="soft">{{ percent(v.ratio) }}</span></span>
  </span>
</template>

<script setup lang="ts">
import { percent } from '../format'
import type { Schemas } from '../http'

defineProps<{ values: Schemas['Common'][] }>()
</script>

<style scoped>
.bars { display: flex; flex-wrap: wrap; gap: 2px 12px; font-size: 11.5px; }
.bar { white-space: nowrap; }
.fill { display: inline-block; height: 8px; background: var(--tide); border-radius: 2px; margin-right: 4px; }
</style>
