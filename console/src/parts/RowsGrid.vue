<template>
  <div class="scroll" tabindex="0" :style="{ maxHeight: `${height}px` }">
    <table class="plain">
      <thead>
        <tr>
          <th v-for="f in columns" :key="f.name" :class="{ num: toRight(f.type) }">{{ f.name }}</th>
          <td v-if="$slots.more" />
        </tr>
      </thead>
      <tbody>
        <tr v-for="(r, i) in rows" :key="i">
          <td v-for="f in columns" :key="f.name" class="nowrap" :class="{ num: toRight(f.type) }" :title="String(r[f.name])">{{ cell(r[f.name], f.type) }}</td>
          <td v-if="$slots.more"><slot name="more" :index="i" /></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'

import { cell, toRight } from '../format'

const props = withDefaults(
  defineProps<{
    /** Fields as plans write them: "tonnes double". */
    fields: string[]
    rows: Record<string, unknown>[]
    /** In pixels, at most. */
    height?: number
  }>(),
  { height: 260 },
)
const columns = computed(() => props.fields.map((f) => ({ name: f.slice(0, f.indexOf(' ')), type: f.slice(f.indexOf(' ') + 1) })))
</script>
