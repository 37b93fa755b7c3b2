<template>
  <header class="head">
    <h1>{{ job.name }}</h1>
    <StatusWord :status="job.status" />
    <RouterLink v-for="a in job.alarms" :key="a" to="/alarms" class="alarm">▲ {{ a }}</RouterLink>
    <span class="soft since" :title="job.since">version {{ job.run?.version ?? job.version }} · since {{ moment(job.since) }} UTC<template v-if="spreadOver > 1"> · on <RouterLink to="/nodes">{{ spreadOver }} nodes</RouterLink></template><template v-else-if="job.node"> · on node <RouterLink to="/nodes">{{ job.node }}</RouterLink></template><template v-if="job.owners.length"> · owned by {{ job.owners.join(', ') }}</template></span>
    <template v-if="!job.portion_of">
    <RouterLink :to="`/build?job=${encodeURIComponent(job.name)}`"><ElButton v-needs="'engineer'">Change</ElButton></RouterLink>
    <RouterLink :to="`/try?job=${encodeURIComponent(job.name)}`"><ElButton v-needs="'engineer'">Try its events</ElButton></RouterLink>
    <ElButton v-if="!job.span_of" v-needs="'engineer'" @click="emit('span')">Process the past</ElButton>
    <ElButton v-if="goesOn(job.status)" v-needs="'engineer'" :disabled="busy || job.status === 'stopping' || job.status === 'draining'" @click="emit('drain')">Drain</ElButton>
    <ElButton v-if="goesOn(job.status)" v-needs="'engineer'" :loading="busy" :disabled="job.status === 'stopping'" @click="emit('stop')">Stop</ElButton>
    <ElButton v-else v-needs="'engineer'" type="primary" :loading="busy" @click="emit('start')">Start</ElButton>
    </template>
  </header>
  <p v-if="job.portion_of" class="soft">A portion of <RouterLink :to="`/jobs/${encodeURIComponent(job.portion_of)}`">{{ job.portion_of }}</RouterLink>, which starts and stops it.</p>
  <p v-if="job.span_of" class="soft">
    Processes the past of <RouterLink :to="`/jobs/${encodeURIComponent(job.span_of)}`">{{ job.span_of }}</RouterLink>: what was stored from {{ job.span_begin || 'where its document says' }} until {{ job.span_until }}.
  </p>
  <p class="sentence">
    <template v-if="goesOn(job.status)">{{ live?.sentence ?? job.sentence }}</template>
    <template v-else-if="job.status === 'saved'">{{ job.about }}. Not started yet.</template>
    <template v-else>{{ job.sentence }}<template v-if="job.status === 'stopped'"> The next start goes on from there.</template></template>
  </p>
  <ul v-if="goesOn(job.status) && live?.advice.length" class="advice" aria-label="Advice">
    <li v-for="a in live.advice" :key="a.kind + a.at"><strong>Advice</strong> {{ a.text }}.</li>
  </ul>
</template>

<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed } from 'vue'

import { moment } from '../format'
import type { Schemas } from '../http'
import { goesOn, type Job } from '../use/jobs'
import { vNeeds } from '../use/me'
import StatusWord from './StatusWord.vue'

const props = defineProps<{
  job: Job
  /** How the run goes; null when none does. */
  live: Schemas['Live'] | null
  /** Whether it is just being started or stopped. */
  busy: boolean
}>()
const emit = defineEmits<{ start: []; stop: []; drain: []; span: [] }>()

const spreadOver = computed(() => new Set(props.job.portions.map((o) => o.node).filter(Boolean)).size)
</script>

<style scoped>
.head { display: flex; align-items: center; gap: 12px; flex-wrap: wrap; }
.head h1 { overflow-wrap: anywhere; }
.since { flex: 1 1 170px; min-width: 0; } /* it takes two lines before a button does */
.alarm { white-space: nowrap; color: var(--brick); background: var(--brick-soft); border-radius: 9px; padding: 1px 8px; font-size: 12px; text-decoration: none; }
.advice { list-style: none; margin: -8px 0 14px; padding: 0; font-size: 12.5px; color: var(--soft); overflow-wrap: anywhere; }
.advice strong { color: var(--sea); font-weight: 600; }
.sentence { margin: 6px 0 14px; font-size: 13.5px; overflow-wrap: anywhere; }
</style>
