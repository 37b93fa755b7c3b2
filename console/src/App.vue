<template>
  <div class="app">
    <nav aria-label="Places">
      <RouterLink class="mark" to="/jobs">
        <svg width="22" height="16" viewBox="0 0 20 14" aria-hidden="true">
          <path d="M1 5c3-5 6-5 9 0s6 5 9 0" fill="none" stroke="var(--sea)" stroke-width="2" />
          <path d="M1 11c3-5 6-5 9 0s6 5 9 0" fill="none" stroke="var(--tide)" stroke-width="2" />
        </svg>
        Under Tide
      </RouterLink>
      <RouterLink v-for="p in places" :key="p.to" class="place" :class="{ here: route.path.startsWith(p.to) }" :to="p.to">
        {{ p.name }}<span v-if="p.to === '/alarms' && alarmsOn" class="on" :aria-label="`${alarmsOn} on`">▲ {{ alarmsOn }}</span>
      </RouterLink>
      <div class="foot">
        <ServiceState :status="status" :problem="problem" />
        <button class="theme" type="button" @click="toggle">{{ dark ? 'Light' : 'Dark' }} colours</button>
      </div>
    </nav>
    <main>
      <div v-if="problem" class="notice bad" role="alert">{{ sentenceCase(problem.detail || problem.title) }}; {{ problem.fix }}.</div>
      <div v-for="t in troubles" :key="t" class="notice" role="status">{{ t }}</div>
      <RouterView />
    </main>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import { moment } from './format'
import ServiceState from './parts/ServiceState.vue'
import { provideJobs } from './use/jobs'
import { useTheme } from './use/theme'

const { jobs, status, problem } = provideJobs()
const alarmsOn = computed(() => (jobs.value ?? []).reduce((n, j) => n + j.alarms.length, 0))
const { dark, toggle } = useTheme()
const route = useRoute()
const places = [
  { name: 'Streams', to: '/streams' },
  { name: 'Jobs', to: '/jobs' },
  { name: 'Alarms', to: '/alarms' },
  { name: 'Build', to: '/build' },
  { name: 'Try', to: '/try' },
]

function sentenceCase(s: string): string {
  return s.charAt(0).toUpperCase() + s.slice(1)
}

const troubles = computed(() => {
  const s = status.value
  if (!s) return []
  const out: string[] = []
  if (!s.database.well) {
    out.push(
      `The database has not answered since ${moment(s.database.since)} UTC (${s.database.why}). Running jobs go on; ${s.records_waiting} records wait to be written. Saving and starting is not possible until it answers.`,
    )
  }
  for (const [name, h] of Object.entries(s.connections)) {
    if (!h.well) out.push(`Connection ${name}: ${h.why}. Jobs that need it wait, and go on where they were.`)
  }
  return out
})
</script>

<style>
.on { color: var(--brick); font-size: 11px; margin-left: 6px; }
.theme { margin-top: 10px; border: 0; background: none; color: var(--soft); font: inherit; padding: 2px 0; cursor: pointer; text-decoration: underline; }
</style>
