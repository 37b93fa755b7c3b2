<template>
  <header class="head">
    <h1>Jobs</h1>
    <span v-if="jobs" class="soft">{{ summary }}</span>
    <span class="grow" />
    <template v-if="(jobs?.length ?? 0) > 1">
      <ElRadioGroup v-model="form" size="small" aria-label="Form"><ElRadioButton value="list">list</ElRadioButton><ElRadioButton value="picture">picture</ElRadioButton></ElRadioGroup>
      <ElInput v-model="filter" size="small" class="pick" placeholder="filter" clearable aria-label="Filter jobs" />
      <ElSelect v-model="sort" size="small" class="pick" aria-label="Order">
        <ElOption v-for="o in orders" :key="o.name" :value="o.name" :label="`by ${o.name}`" />
      </ElSelect>
    </template>
  </header>
  <div v-if="failure" class="notice bad" role="alert">{{ failure.detail }}; {{ failure.fix }}.</div>
  <StateNote v-if="!jobs?.length" :loading="loading" :problem="jobs ? null : problem">
    There are no jobs yet. Write a document and save it: <code class="mono">undertide save JOB.yaml</code>, then
    <code class="mono">undertide start JOB</code>.
  </StateNote>
  <div v-else class="sheet scroll">
    <StateNote v-if="!shown.length" :loading="false" :problem="null">No job fits “{{ filter }}”.</StateNote>
    <JobsPicture v-else-if="form === 'picture'" :jobs="shown" />
    <JobsTable v-else :jobs="shown" :busy="busy" @start="act($event, startJob)" @stop="act($event, stopJob)" />
  </div>
</template>

<script setup lang="ts">
import { ElInput, ElOption, ElRadioButton, ElRadioGroup, ElSelect } from 'element-plus'
import { computed, defineAsyncComponent, ref, shallowRef } from 'vue'

import { asProblem, type Problem } from '../http'
import JobsTable from '../parts/JobsTable.vue'
import StateNote from '../parts/StateNote.vue'
import { startJob, stopJob, useJobs, type Job } from '../use/jobs'

const JobsPicture = defineAsyncComponent(() => import('../parts/JobsPicture.vue'))
const form = ref('list')

const { jobs, loading, problem } = useJobs()
const busy = ref<string[]>([])
const failure = shallowRef<Problem | null>(null)

const summary = computed(() => {
  const by = new Map<string, number>()
  for (const j of jobs.value ?? []) by.set(j.status, (by.get(j.status) ?? 0) + 1)
  return [...by].map(([s, n]) => `${n} ${s}`).join(', ')
})

const filter = ref('')
const sort = ref('name')
// What is wrong comes first, then what is furthest behind.
const orders = [
  { name: 'name', of: (): number => 0 },
  { name: 'alarms', of: (j: Job) => j.alarms.length * 1000 + (j.live?.causes.some((c) => c.grave) ? 1 : 0) + (j.status === 'failed' ? 500 : 0) },
  { name: 'lag', of: (j: Job) => j.live?.lag_events ?? -1 },
  { name: 'rows in', of: (j: Job) => j.live?.in_per_second ?? -1 },
  { name: 'late', of: (j: Job) => j.live?.late ?? -1 },
  { name: 'restarts', of: (j: Job) => j.live?.restarts ?? -1 },
]
const shown = computed(() => {
  const words = filter.value.toLowerCase().split(/\s+/).filter(Boolean)
  const of = orders.find((o) => o.name === sort.value)?.of ?? (() => 0)
  return (jobs.value ?? [])
    .filter((j) => words.every((w) => `${j.name} ${j.about} ${j.status} ${j.alarms.join(' ')}`.toLowerCase().includes(w)))
    .sort((a, b) => of(b) - of(a) || a.name.localeCompare(b.name))
})

async function act(name: string, what: (name: string) => Promise<unknown>) {
  busy.value.push(name)
  failure.value = null
  try {
    await what(name)
  } catch (e) {
    failure.value = asProblem(e)
  } finally {
    busy.value = busy.value.filter((n) => n !== name)
  }
}
</script>

<style scoped>
.head { display: flex; align-items: baseline; gap: 14px; margin-bottom: 14px; }
.grow { flex: 1; }
.pick { width: 160px; }
</style>
