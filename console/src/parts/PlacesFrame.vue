<template>
  <div class="app">
    <nav aria-label="Places">
      <RouterLink class="mark" to="/jobs">
        <TideMark />
        Under Tide
      </RouterLink>
      <RouterLink v-for="p in places" :key="p.to" class="place" :class="{ here: route.path.startsWith(p.to) }" :to="p.to">
        {{ p.name }}<span v-if="p.to === '/alarms' && alarmsOn" class="on" :aria-label="`${alarmsOn} on`">▲ {{ alarmsOn }}</span>
        <span v-if="p.to === '/nodes' && away" class="on" :aria-label="`${away} away`">▲ {{ away }}</span>
      </RouterLink>
      <div class="foot">
        <div v-if="me.me.value?.name" class="me" data-test="me">
          <RouterLink to="/people">{{ me.me.value.name }}</RouterLink>, {{ me.me.value.role }}
          <button class="theme" type="button" @click="me.signOut()">Sign out</button>
        </div>
        <ServiceState :status="status" :problem="problem" />
        <button class="theme" type="button" @click="toggle">{{ dark ? 'Light' : 'Dark' }} colours</button>
      </div>
    </nav>
    <main>
      <div v-if="problem" class="notice bad" role="alert">{{ said(problem) }}</div>
      <div v-for="t in troubles" :key="t" class="notice" role="status">{{ t }}</div>
      <RouterView />
    </main>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import { moment } from '../format'
import { said } from '../http'
import { provideJobs } from '../use/jobs'
import { useMe } from '../use/me'
import { useTheme } from '../use/theme'
import ServiceState from './ServiceState.vue'
import TideMark from './TideMark.vue'

const { jobs, status, nodes, problem } = provideJobs()
const alarmsOn = computed(() => (jobs.value ?? []).reduce((n, j) => n + j.alarms.length, 0))
const { dark, toggle } = useTheme()
const me = useMe()
const route = useRoute()
const places = computed(() => [
  { name: 'Streams', to: '/streams' },
  { name: 'Jobs', to: '/jobs' },
  { name: 'Alarms', to: '/alarms' },
  { name: 'Build', to: '/build' },
  { name: 'Try', to: '/try' },
  ...(nodes.value?.length ? [{ name: 'Nodes', to: '/nodes' }] : []),
  { name: 'People', to: '/people' },
])
const away = computed(() => (nodes.value ?? []).filter((n) => n.state === 'away' && n.heard_at).length)

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
.me { margin-bottom: 10px; overflow-wrap: anywhere; }
.me .theme { display: block; margin-top: 2px; }
.theme { margin-top: 10px; border: 0; background: none; color: var(--soft); font: inherit; padding: 2px 0; cursor: pointer; text-decoration: underline; }
</style>
