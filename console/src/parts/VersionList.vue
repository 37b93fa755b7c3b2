<template>
  <StateNote v-if="!data?.items.length" :loading="loading" :problem="problem">No versions.</StateNote>
  <div v-else class="two">
    <table class="plain">
      <thead><tr><th class="num">version</th><th>saved (UTC)</th><td /></tr></thead>
      <tbody>
        <tr v-for="v in data.items" :key="v.number">
          <td class="num">{{ v.number }}</td>
          <td class="nowrap" :title="v.created_at">{{ moment(v.created_at) }}<span v-if="v.saved_by" class="soft"> · by {{ v.saved_by }}</span></td>
          <td class="nowrap">
            <ElButton size="small" text @click="shown = `/jobs/${name}/versions/${v.number}`">document</ElButton>
            <ElButton v-needs="'engineer'" size="small" text :aria-label="`start version ${v.number} …`" @click="starting = v.number">start …</ElButton>
            <ElButton v-if="v.number > 1" size="small" text @click="shown = `/jobs/${name}/diff?a=${v.number - 1}&b=${v.number}`">changes</ElButton>
          </td>
        </tr>
      </tbody>
    </table>
    <div v-if="isDiff" class="words">
      <p v-if="words.length" class="soft">What differs; comments and layout do not count.</p>
      <p v-else class="soft">They differ in comments and layout only.</p>
      <p v-for="w in words" :key="w">{{ w }}</p>
      <ElButton size="small" text @click="lines = !lines">{{ lines ? 'hide' : 'show' }} the changed lines</ElButton>
      <pre v-if="lines" class="mono" tabindex="0"><span v-for="(l, i) in text.split('\n')" :key="i" :class="tone(l)">{{ l }}
</span></pre>
    </div>
    <pre v-else-if="text" class="mono" tabindex="0"><span v-for="(l, i) in text.split('\n')" :key="i" :class="tone(l)">{{ l }}
</span></pre>
  </div>
  <StartDialog v-if="starting" :job="props.job" :version="starting" :values="values" @close="starting = 0" />
</template>

<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, ref, toRef } from 'vue'

import { moment } from '../format'
import type { Schemas } from '../http'
import { vNeeds } from '../use/me'
import { useResource } from '../use/resource'
import { useValues } from '../use/values'
import StartDialog from './StartDialog.vue'
import StateNote from './StateNote.vue'

const props = defineProps<{
  job: string
  /** The newest version; the list is asked for anew with each. */
  newest: number
}>()
const name = computed(() => encodeURIComponent(props.job))
const { data, loading, problem } = useResource<{ items: Schemas['Version'][] }>(computed(() => `/jobs/${name.value}/versions?limit=50&newest=${props.newest}`))
const shown = ref(`/jobs/${encodeURIComponent(props.job)}/versions/newest`)
const one = useResource<{ document?: string; text?: string; words?: string[] }>(shown)
const starting = ref(0)
const lines = ref(false)
const words = computed(() => one.data.value?.words ?? [])
const values = useValues(toRef(props, 'job'), starting)
const isDiff = computed(() => shown.value.includes('/diff?'))
const text = computed(() => one.data.value?.document ?? one.data.value?.text ?? '')

function tone(line: string): string {
  if (!isDiff.value) return ''
  return line.startsWith('+') ? 'added' : line.startsWith('-') ? 'removed' : ''
}
</script>

<style scoped>
.two { display: grid; grid-template-columns: 360px minmax(0, 1fr); gap: 20px; align-items: start; }
pre { margin: 0; padding: 10px 12px; background: var(--ground); border-radius: 8px; overflow: auto; max-height: 420px; }
.words p { margin: 2px 0; overflow-wrap: anywhere; }
.added { color: var(--sea); }
.removed { color: var(--brick); }
</style>
