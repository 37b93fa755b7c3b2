<template>
  <div class="ask">
    <ElInput v-model="grep" size="small" placeholder="search" clearable class="search" aria-label="Search the log" />
    <ElSelect v-model="level" size="small" class="level" aria-label="Level"><ElOption v-for="l in levels" :key="l" :value="l" :label="`from ${l} on`" /></ElSelect>
  </div>
  <StateNote v-if="!data?.items.length" :loading="loading" :problem="problem">No line of the log {{ grep ? `holds ${grep}` : 'yet' }}.</StateNote>
  <table v-else class="plain mono">
    <tbody>
      <tr v-for="(l, i) in data.items" :key="i">
        <td class="nowrap" :title="l.at">{{ moment(l.at) }}</td>
        <td :class="{ bad: l.level === 'ERROR', warn: l.level === 'WARN' }">{{ l.level.toLowerCase() }}</td>
        <td>{{ l.message }} <span class="soft">{{ rest(l.fields) }}</span></td>
      </tr>
    </tbody>
  </table>
</template>

<script setup lang="ts">
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, ref } from 'vue'

import { moment } from '../format'
import type { Schemas } from '../http'
import { useResource } from '../use/resource'
import StateNote from './StateNote.vue'

const props = defineProps<{ job: string }>()
const levels = ['debug', 'info', 'warn', 'error']
const grep = ref('')
const level = ref('info')
const path = computed(() => `/jobs/${encodeURIComponent(props.job)}/logs?limit=200&level=${level.value}&grep=${encodeURIComponent(grep.value)}`)
const { data, loading, problem } = useResource<{ items: Schemas['LogLine'][] }>(path, 3000)

function rest(fields: Record<string, unknown>): string {
  return Object.entries(fields).filter(([k]) => k !== 'job').map(([k, v]) => `${k}=${String(v)}`).join(' ')
}
</script>

<style scoped>
.ask { display: flex; gap: 8px; margin-bottom: 6px; }
.search { width: 220px; }
.level { width: 140px; }
</style>
