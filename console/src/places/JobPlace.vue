<template>
  <StateNote v-if="!job" :loading="loading || (!problem && !missing)" :problem="missing ?? problem" />
  <template v-else>
    <JobHead :job="job" :live="live" :busy="busy" @start="act(startJob)" @stop="act(stopJob)" @drain="drain" @span="spanning = true" />
    <SpanDialog v-if="spanning" :job="job.name" :version="job.run?.version ?? job.version" @close="spanning = false" />
    <div v-if="failure && !told" class="notice bad" role="alert">{{ failure.detail }}; {{ failure.fix }}.</div>
    <section class="sheet" aria-label="Map">
      <header>
        <h2>Map</h2>
        <span class="soft">rows a second · how busy and blocked · state; choose a part to look into it</span>
      </header>
      <JobMap v-if="plan.data.value" :plan="plan.data.value" :figures="figures" :chosen="chosen" @choose="chosen = chosen === $event ? '' : $event" />
      <StateNote v-else :loading="plan.loading.value" :problem="plan.problem.value">The job has no plan.</StateNote>
      <NodePanel v-if="chosen && plan.data.value" :name="chosen" :plan="plan.data.value" :figures="figures" :run="runId" @close="chosen = ''" />
    </section>
    <!-- What is below comes once the map has its height: nothing that is about to be pressed moves away. -->
    <template v-if="!plan.loading.value">
      <PortionsTable v-if="job.portions.length" :job="job" :plan="plan.data.value" :busy="busy" @respread="respread" />
      <FigureTiles v-if="figures" :figures="figures" :past="past.data.value" />
      <ResultsSection v-if="runId && plan.data.value" :run="runId" :plan="plan.data.value" />
      <section v-else class="sheet results"><header><h2>Results</h2></header><StateNote :loading="false" :problem="null">No rows yet: start the job to see them.</StateNote></section>
      <FiguresSection :job="job.name" />
      <RecordTabs :job="job.name" :version="job.version" :steps="plan.data.value?.steps.filter((s) => s.bound).map((s) => s.name) ?? []" />
    </template>
  </template>
</template>

<script setup lang="ts">
import { computed, defineAsyncComponent, ref, shallowRef, watch } from 'vue'

import { asProblem, type Problem, type Schemas } from '../http'
import FigureTiles from '../parts/FigureTiles.vue'
import JobHead from '../parts/JobHead.vue'
import JobMap from '../parts/JobMap.vue'
import NodePanel from '../parts/NodePanel.vue'
import PortionsTable from '../parts/PortionsTable.vue'
import RecordTabs from '../parts/RecordTabs.vue'
import ResultsSection from '../parts/ResultsSection.vue'
import SpanDialog from '../parts/SpanDialog.vue'
import StateNote from '../parts/StateNote.vue'
import { drainJob, respreadJob, startJob, stopJob, useJobs, type Job } from '../use/jobs'
import { useResource } from '../use/resource'
import { useFigures, usePast } from '../use/runs'
import { sure } from '../use/sure'

const charts = import('../parts/FiguresSection.vue') // begun at once, needed a little later
const FiguresSection = defineAsyncComponent(() => charts)

const props = defineProps<{
  /** The job's name, from the address. */
  job: string
}>()

const { jobs, loading, problem } = useJobs()
const listed = computed(() => jobs.value?.find((j) => j.name === props.job) ?? null)
// The list has spread jobs as a whole; a portion is asked for by its name.
const portion = useResource<Job>(computed(() => (jobs.value && !listed.value && props.job.includes('.') ? `/jobs/${encodeURIComponent(props.job)}` : '')))
const job = computed(() => listed.value ?? (portion.data.value?.name === props.job ? portion.data.value : null))
watch(jobs, () => portion.data.value && void portion.refresh())
const missing = computed<Problem | null>(() =>
  jobs.value && !job.value && !portion.loading.value
    ? { type: '', code: 'no-such-job', status: 404, title: '', detail: `There is no job ${props.job}.`, fix: 'Choose one from the list of jobs.' }
    : null,
)
const runId = computed(() => job.value?.run?.id ?? null)
const address = computed(() => (job.value ? `/jobs/${encodeURIComponent(props.job)}/map` : ''))
const plan = useResource<Schemas['Plan']>(address)
const figures = useFigures(runId)
const past = usePast(computed(() => (job.value ? props.job : '')))
const live = computed(() => figures.value?.live ?? job.value?.live ?? null)
const chosen = ref('')
watch(() => props.job, () => (chosen.value = ''))
watch(() => job.value?.run?.version, () => void plan.refresh())

const busy = ref(false)
const failure = shallowRef<Problem | null>(null)
// Why it did not start may stand in the sentence already.
const told = computed(() => {
  const why = failure.value?.detail.split(' did not start: ')[1]
  return !!why && !!job.value?.sentence.includes(why)
})

const spanning = ref(false)

async function drain() {
  if (await sure('The sources end where they stand, everything that is open is published, and the run finishes. It cannot go on afterwards.', 'Drain')) await act(drainJob)
}

async function respread(portions: number) {
  if (await sure(`The portions come to rest, what they keep is divided among ${portions} of each part, and the job goes on. For some seconds it publishes nothing; nothing is lost.`, 'Divide anew'))
    await act((name) => respreadJob(name, portions))
}

async function act(what: (name: string) => Promise<unknown>) {
  busy.value = true
  failure.value = null
  try {
    await what(props.job)
  } catch (e) {
    failure.value = asProblem(e)
  } finally {
    busy.value = false
  }
}
</script>

<style scoped>
.results { margin-top: 14px; }
</style>
