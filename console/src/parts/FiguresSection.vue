<template>
  <section class="sheet figures" aria-label="Figures">
    <header>
      <h2>Figures</h2>
      <ElRadioGroup v-model="chosen" size="small" aria-label="How far back">
        <ElRadioButton v-for="s in stretches" :key="s.back" :value="s.back">{{ s.name }}</ElRadioButton>
      </ElRadioGroup>
      <ElButton v-if="!('back' in range)" size="small" @click="chosen = before">Back from {{ stretch }}</ElButton>
      <span class="grow" />
      <!-- Lists of hundreds, of which only what is seen is drawn. -->
      <ElSelectV2 v-model="others" :options="otherJobs" size="small" multiple collapse-tags filterable tag-type="primary" class="pick" placeholder="beside other jobs" aria-label="Beside other jobs" />
      <ElSelectV2 v-model="more" :options="choices" size="small" multiple collapse-tags filterable tag-type="primary" class="pick" placeholder="more figures" aria-label="More figures">
        <template #default="{ item }"><span :title="item.about">{{ item.label }}</span></template>
      </ElSelectV2>
      <a class="soft" :href="file" :download="`${job}-figures.json`">as JSON</a>
    </header>
    <StateNote v-if="problem || empty" :loading="loading" :problem="problem">The job did not run in that time. Choose a longer one, or start the job.</StateNote>
    <div v-else class="charts">
      <PastChart v-for="c in charts" :key="c.title" :title="c.title" :unit="c.unit" :lines="c.lines" :marks="marks" :since="since" :until="until" @choose="choose" />
    </div>
    <details v-if="marks.length" class="marks">
      <summary>{{ marks.length === 1 ? 'One thing' : `${marks.length} things` }} happened meanwhile</summary>
      <ul><li v-for="(m, i) in [...marks].reverse().slice(0, 40)" :key="i"><span class="soft">{{ moment(m.at) }}</span> {{ m.kind }} <span class="soft">{{ m.text }}</span></li></ul>
    </details>
  </section>
</template>

<script setup lang="ts">
import { ElButton, ElRadioButton, ElRadioGroup, ElSelectV2 } from 'element-plus'
import { computed, ref, shallowRef, watch } from 'vue'

import { moment } from '../format'
import { address, part, type Schemas } from '../http'
import { useJobs } from '../use/jobs'
import { broken, figureNames, stretches, usePasts, type PastLine, type Range } from '../use/past'
import PastChart from './PastChart.vue'
import StateNote from './StateNote.vue'

const props = defineProps<{ job: string }>()

const { jobs } = useJobs()
const otherJobs = computed(() => (jobs.value ?? []).filter((j) => j.name !== props.job).map((j) => ({ value: j.name, label: j.name })))
const others = ref<string[]>([])
const more = ref<string[]>([])
const known = shallowRef<Schemas['FigureName'][] | null>(null) // null until they have come
const names = computed(() => known.value ?? [])
const choices = computed(() => names.value.map((n) => ({ value: n.name, label: n.name, about: n.about })))
watch(() => props.job, async (j) => {
  others.value = []
  more.value = []
  known.value = null
  try {
    const got = await figureNames(j)
    if (j === props.job) known.value = got
  } catch {
    if (j === props.job) known.value = [] // the charts say why
  }
}, { immediate: true })

const range = shallowRef<Range>({ back: '15m' })
const before = ref('15m')
const chosen = computed({
  get: () => ('back' in range.value ? range.value.back : ''),
  set: (back: string) => {
    before.value = back
    range.value = { back }
  },
})
function choose(from: number, to: number) {
  range.value = { since: from, until: to }
}
const stretch = computed(() => ('back' in range.value ? '' : `${moment(new Date(range.value.since).toISOString())} to ${moment(new Date(range.value.until).toISOString())}`))

// The dashboard that nobody has to build: what is asked first, first. With other jobs, of each the figures of the job as a whole.
const boards = [
  { title: 'Behind', names: ['lag_events'] },
  { title: 'Behind in time', names: ['lag_seconds', 'watermark_age_seconds'] },
  { title: 'Delay after the event, 99 %', names: ['sinks.*.event_delay_p99_seconds'] },
  { title: 'Rows in and out', names: ['in_per_second', 'arriving_per_second', 'out_per_second'] },
  { title: 'Busy', names: ['busiest_ratio', 'steps.*.busy_ratio'] },
  { title: 'Blocked, held up', names: ['steps.*.blocked_ratio', 'sinks.*.held_up_ratio'] },
  { title: 'Lost and rejected', names: ['late_per_second', 'rejected_per_second'] },
  { title: 'Memory', names: ['memory_bytes', 'state_bytes'] },
  { title: 'CPU', names: ['work'] },
  { title: 'Checkpoints', names: ['checkpoint_seconds', 'checkpoint_age_seconds', 'checkpoint_stall_seconds'] },
  { title: 'Checkpoint size', names: ['checkpoint_bytes'] },
  { title: 'Failed checkpoints', names: ['checkpoints_failed'] },
  { title: 'Restarts', names: ['restarts'] },
]
const whole = (n: string) => !n.includes('.')
const all = computed(() => (known.value ? [props.job, ...others.value] : []))
const wanted = computed(() => {
  const base = [...new Set(boards.flatMap((b) => b.names))].filter((n) => whole(n) || (others.value.length === 0 && names.value.some((x) => like(n, x.name))))
  return [...base, ...more.value.filter((n) => !base.includes(n) && (whole(n) || others.value.length === 0))]
})
const { data, loading, problem } = usePasts(all, range, wanted)

function like(pattern: string, name: string): boolean {
  const a = pattern.split('.')
  const b = name.split('.')
  return a.length === b.length && a.every((x, i) => x === '*' || x === b[i])
}

const charts = computed(() => {
  const of = (patterns: string[]) => {
    const out: { name: string; unit: string; points: [number, number | null][] }[] = []
    for (const [job, past] of data.value) {
      for (const l of past.lines.filter((l: PastLine) => patterns.some((p) => like(p, l.name)))) {
        out.push({ name: data.value.size > 1 ? `${job}: ${short(l.name)}` : short(l.name), unit: l.unit, points: broken(past, l.means) })
      }
    }
    return out
  }
  const list = boards.map((b) => ({ title: b.title, lines: of(b.names) }))
  for (const n of more.value) list.push({ title: short(n), lines: of([n]) })
  return list.filter((c) => c.lines.some((l) => l.points.some(([, v]) => v !== null))).map((c) => ({ ...c, unit: c.lines[0]?.unit ?? '' }))
})
const empty = computed(() => !loading.value && [...data.value.values()].every((p) => p.at.length === 0))
const marks = computed(() => data.value.get(props.job)?.marks ?? [])

const now = ref(Date.now())
watch(data, () => (now.value = Date.now()))
const until = computed(() => ('back' in range.value ? now.value : range.value.until))
const since = computed(() => ('back' in range.value ? now.value - seconds(range.value.back) * 1000 : range.value.since))
function seconds(back: string): number {
  return Number.parseInt(back, 10) * (back.endsWith('h') ? 3600 : 60)
}

/** steps.minute.busy_ratio is "minute busy". */
function short(name: string): string {
  const parts = name.split('.')
  const last = (parts.at(-1) ?? '').replace(/_(per_second|seconds|bytes|ratio|events)$/, '').replaceAll('_', ' ')
  return parts.length > 1 ? `${parts.slice(1, -1).join('.')} ${last}` : last
}

const file = computed(() => {
  const q = new URLSearchParams('back' in range.value ? { since: range.value.back } : { since: new Date(range.value.since).toISOString(), until: new Date(range.value.until).toISOString() })
  return address(`/jobs/${part(props.job)}/figures?${q.toString()}`)
})
</script>

<style scoped>
.figures { margin-top: 14px; }
.grow { flex: 1; }
.pick { width: 170px; }
.charts { display: grid; grid-template-columns: repeat(3, minmax(0, 1fr)); gap: 12px 18px; }
.marks { font-size: 12px; margin-top: 8px; }
.marks ul { margin: 4px 0 0; padding-left: 16px; }
@media (max-width: 1100px) { .charts { grid-template-columns: repeat(2, minmax(0, 1fr)); } }
</style>
