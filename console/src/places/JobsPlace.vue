<template>
  <header class="head">
    <h1>Jobs</h1>
    <span v-if="jobs" class="soft">{{ summary }}</span>
  </header>
  <div v-if="failure" class="notice bad" role="alert">{{ failure.detail }}; {{ failure.fix }}.</div>
  <StateNote v-if="!jobs?.length" :loading="loading" :problem="jobs ? null : problem">
    There are no jobs yet. Write a document and save it: <code class="mono">undertide save JOB.yaml</code>, then
    <code class="mono">undertide start JOB</code>.
  </StateNote>
  <div v-else class="sheet scroll">
    <JobsTable :jobs="jobs" :busy="busy" @start="act($event, startJob)" @stop="act($event, stopJob)" />
  </div>
</template>

<script setup lang="ts">
import { computed, ref, shallowRef } from 'vue'

import { asProblem, type Problem } from '../http'
import JobsTable from '../parts/JobsTable.vue'
import StateNote from '../parts/StateNote.vue'
import { startJob, stopJob, useJobs } from '../use/jobs'

const { jobs, loading, problem } = useJobs()
const busy = ref<string[]>([])
const failure = shallowRef<Problem | null>(null)

const summary = computed(() => {
  const by = new Map<string, number>()
  for (const j of jobs.value ?? []) by.set(j.status, (by.get(j.status) ?? 0) + 1)
  return [...by].map(([s, n]) => `${n} ${s}`).join(', ')
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
</style>
