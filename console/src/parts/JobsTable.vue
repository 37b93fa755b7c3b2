<template>
  <table class="plain jobs">
    <thead>
      <tr>
        <th>job</th>
        <th>status</th>
        <th class="num" title="Events that wait to be read">lag</th>
        <th class="num">behind</th>
        <th class="num">in</th>
        <th class="num">out</th>
        <th class="num" title="How far the watermark is behind the clock">watermark age</th>
        <th class="num" title="Events of which a row was lost as late">late</th>
        <th class="num">rejected</th>
        <th class="num">checkpoint</th>
        <th class="num">restarts</th>
        <th><span class="hidden">actions</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="j in jobs" :key="j.name" :data-job="j.name">
        <td>
          <RouterLink :to="`/jobs/${encodeURIComponent(j.name)}`" class="name">{{ j.name }}</RouterLink>
          <div class="soft about">{{ j.about }}</div>
          <div v-if="j.alarms.length" class="bad about"><span v-for="a in j.alarms" :key="a">▲ {{ a }} </span></div>
          <div v-if="grave(j)" class="warn about">{{ grave(j) }}</div>
          <div v-else-if="!j.live && j.run?.error" class="bad about">{{ j.sentence }}</div>
        </td>
        <td class="nowrap">
          <StatusWord :status="j.status" />
          <div class="soft since" :title="j.since">{{ span(secondsSince(j.since)) }}<template v-if="j.node"> · {{ j.node }}</template></div>
        </td>
        <template v-if="j.live">
          <td class="num">{{ j.live.lag_events === null ? '–' : count(j.live.lag_events) }}<SmallLine class="line" :values="j.recent.lag" :label="`Lag of ${j.name} in the last five minutes`" /></td>
          <td class="num">
            <template v-if="j.live.lag_seconds !== null">{{ span(j.live.lag_seconds) }}</template>
            <template v-else>–</template>
            <div class="soft">{{ trend(j.live) }}</div>
          </td>
          <td class="num">{{ rate(j.live.in_per_second) }}<SmallLine class="line" :values="j.recent.in" :label="`Events of ${j.name} in the last five minutes`" /></td>
          <td class="num">{{ rate(j.live.out_per_second) }}</td>
          <td class="num" :title="j.live.watermark ?? ''">{{ j.live.watermark_age_seconds === null ? '–' : span(j.live.watermark_age_seconds) }}</td>
          <td class="num">{{ count(j.live.late) }}</td>
          <td class="num">{{ count(j.live.rejected) }}</td>
          <td class="num">{{ j.live.checkpoint_age_seconds === null ? '–' : `${span(j.live.checkpoint_age_seconds)} ago` }}</td>
          <td class="num">{{ j.live.restarts }}</td>
        </template>
        <td v-else colspan="9" class="soft">
          <template v-if="j.status === 'saved'">Start it to see its figures.</template>
        </td>
        <td class="num nowrap">
          <ElButton v-if="goesOn(j.status)" v-needs="'engineer'" size="small" :loading="busy.includes(j.name)" :disabled="j.status === 'stopping'" :aria-label="`Stop ${j.name}`" @click="emit('stop', j.name)">Stop</ElButton>
          <ElButton v-else v-needs="'engineer'" size="small" type="primary" :loading="busy.includes(j.name)" :aria-label="`Start ${j.name}`" @click="emit('start', j.name)">Start</ElButton>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<script setup lang="ts">
import { ElButton } from 'element-plus'

import { count, rate, secondsSince, span } from '../format'
import type { Schemas } from '../http'
import { goesOn, type Job } from '../use/jobs'
import { vNeeds } from '../use/me'
import SmallLine from './SmallLine.vue'
import StatusWord from './StatusWord.vue'

defineProps<{
  jobs: Job[]
  /** Names of jobs that are just being started or stopped. */
  busy: string[]
}>()
const emit = defineEmits<{
  /** A job's name. */
  start: [name: string]
  /** A job's name. */
  stop: [name: string]
}>()

// What holds a job, or loses its rows, in words; empty for nothing.
function grave(j: Job): string {
  const c = j.live?.causes.find((x) => x.grave)
  if (!c) return ''
  return c.kind === 'unreachable' ? `waits: ${c.text}` : c.text
}

function trend(l: Schemas['Live']): string {
  return l.catch_up_seconds !== null ? `caught up in ${span(l.catch_up_seconds)}` : l.lag_trend
}
</script>

<style scoped>
.line { width: 64px; height: 18px; margin-left: auto; }
.name { font-weight: 600; text-decoration: none; }
.name:hover { text-decoration: underline; }
.about { font-size: 11.5px; min-width: 130px; max-width: 300px; overflow-wrap: anywhere; }
.since { font-size: 11.5px; padding-left: 8px; }
</style>
