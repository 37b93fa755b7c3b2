<template>
  <header class="head">
    <h1>Try</h1>
    <span class="soft">one event at a time: {{ lesson ? `a lesson, ${lesson.title.toLowerCase()}` : (plan?.job ?? 'your document') }}</span>
    <span class="grow" />
    <ElButton v-if="!lesson && played.data.value" size="small" @click="asExample">Save as an example</ElButton>
    <ElButton v-if="!lesson" size="small" @click="router.push('/build')">To the document</ElButton>
  </header>
  <div class="lessons" role="navigation" aria-label="Lessons">
    <span class="soft">Lessons</span>
    <RouterLink v-for="l in lessons" :key="l.name" :to="{ query: { lesson: l.name } }" class="chip" :class="{ here: lesson?.name === l.name }" :aria-current="lesson?.name === l.name ? 'page' : undefined">{{ l.title }}</RouterLink>
    <RouterLink v-if="draft.text.value" :to="{ query: { lesson: 'own' } }" class="chip" :class="{ here: !lesson }" :aria-current="!lesson ? 'page' : undefined">{{ draft.plan.value?.job ? `your document: ${draft.plan.value.job}` : 'your document' }}</RouterLink>
    <RouterLink v-else to="/build" class="soft">or begin a document of your own</RouterLink>
  </div>
  <div v-if="lesson" class="about">
    <p v-for="a in lesson.about" :key="a">{{ a }}</p>
    <div v-if="lesson.dials.length" class="dials">
      <label v-for="d in lesson.dials" :key="d.name">{{ d.label }} <input v-model.number="dials[d.name]" type="range" min="0" :max="d.most" :step="d.step" :aria-valuetext="`${dials[d.name]} seconds`" /> <strong>{{ dials[d.name] }} s</strong></label>
    </div>
    <details><summary>The document</summary><pre class="mono" tabindex="0">{{ text }}</pre></details>
  </div>
  <StateNote v-if="loading.problem.value" :loading="false" :problem="loading.problem.value" />
  <StateNote v-if="!lesson && faults" :loading="false" :problem="null">The document has {{ faults }} {{ faults === 1 ? 'mistake' : 'mistakes' }}. <RouterLink to="/build">Put it right in Build</RouterLink> first.</StateNote>
  <template v-else>
    <div class="desk">
      <section class="sheet" aria-label="Events">
        <header>
          <h2>Events</h2>
          <ElSelect v-if="sources.length > 1" v-model="source" size="small" style="width: 120px" aria-label="Source"><ElOption v-for="s in sources" :key="s" :value="s" :label="s" /></ElSelect>
          <span class="grow" />
          <ElButton size="small" text @click="lines = []">Empty</ElButton>
        </header>
        <div v-if="!lesson" class="byhand">
          <ElSelect v-model="many" size="small" style="width: 92px" aria-label="How many"><ElOption v-for="n in [60, 300, 1000]" :key="n" :value="n" :label="count(n)" /></ElSelect>
          <ElButton size="small" :loading="sampling.busy.value" @click="take">Take from the stream</ElButton>
        </div>
        <div class="byhand">
          <ElInput v-model="hand" size="small" class="mono" aria-label="An event by hand" placeholder="{&quot;gauge&quot;: &quot;G01&quot;, …} or clock 10s" @keydown.enter="byHand" />
          <ElButton size="small" type="primary" @click="byHand">Give it</ElButton>
        </div>
        <div v-if="sampling.problem.value" class="notice bad">{{ sampling.problem.value.detail }}; {{ sampling.problem.value.fix }}.</div>
        <div v-if="played.problem.value" class="notice bad" role="alert">{{ played.problem.value.detail }}; {{ played.problem.value.fix }}.</div>
        <ol class="events" aria-label="Given events">
          <li v-for="(l, i) in lines" :key="i" :class="{ past: i < at, now: i === at - 1, pointed: pointed === i, late: i < at && moments[i]?.late }" @mouseenter="pointed = i" @mouseleave="pointed = null">
            <button type="button" class="to" :aria-label="`up to event ${i + 1}`" @click="at = i + 1" @focus="pointed = i" @blur="pointed = null">{{ i + 1 }}</button>
            <span class="mono">{{ l.clock ? `clock ${l.clock}` : l.text }}</span>
            <span v-if="i < at && moments[i]?.late" class="bad"> ✕ late</span><span v-if="i < at && moments[i]?.reject" class="bad"> ✕ {{ moments[i]?.reject }}</span>
          </li>
        </ol>
      </section>
      <div class="side">
        <section class="sheet" aria-label="Tide chart">
          <header>
            <h2>Tide chart</h2>
            <ElSelect v-if="windowed.length > 1" v-model="step" size="small" style="width: 130px" aria-label="Step"><ElOption v-for="s in windowed" :key="s" :value="s" :label="s" /></ElSelect>
            <ElSelect v-if="keys.length > 1" v-model="key" size="small" style="width: 130px" aria-label="Key"><ElOption value="all" label="all keys" /><ElOption v-for="k in keys" :key="k" :value="k" :label="k" /></ElSelect>
            <ElRadioGroup v-model="order" size="small" aria-label="Order"><ElRadioButton value="time">by event time</ElRadioButton><ElRadioButton value="arrival">by arrival</ElRadioButton></ElRadioGroup>
            <span class="grow" />
            <ElButton size="small" :disabled="at === 0" aria-label="Back to the beginning" @click="at = 0">|◀</ElButton>
            <ElButton size="small" :disabled="at === 0" aria-label="One event back" @click="at--">◀</ElButton>
            <ElButton size="small" type="primary" :disabled="at >= moments.length" aria-label="Next event" @click="at++">▶</ElButton>
            <ElButton size="small" :disabled="at >= moments.length" aria-label="To the end" @click="at = moments.length">▶|</ElButton>
          </header>
          <input v-model.number="at" class="slide" type="range" min="0" :max="moments.length" aria-label="How many events are given" />
          <p class="now" role="status">{{ sentence }}</p>
          <TideChart :dots="dots" :watermark="watermark" :bands="bands" :pairs="pairs" :reaches="reaches" :room="Math.max(6, moments.length)" label="Event time against arrival" across="arrival" @choose="at = $event + 1" @point="pointed = $event" />
          <p class="soft small">Dots are events, ✕ late ones; the line is the watermark; a window is filled while it is open, and shows its result once it closed.<template v-if="joined.length"> Diamonds are of the right side of {{ joined[0] }}; a bar behind a dot holds the times that its partners may have, both ends included, and a line joins a pair.</template></p>
        </section>
        <section v-if="windowed.length" class="sheet" aria-label="Windows">
          <header><h2>Windows of {{ step }}</h2><span class="soft">{{ pointed === null ? 'point at an event, and its windows light up' : pointing }}</span></header>
          <div class="scroll some" tabindex="0">
            <table class="plain">
              <thead><tr><th class="num">number</th><th v-if="keys.length > 1">key</th><th>from</th><th>to</th><th>state</th><th>events in it</th><th>holds</th></tr></thead>
              <tbody>
                <tr v-for="w in held" :key="`${w.number} ${w.key} ${w.from} ${w.to}`" :class="{ lit: w.lit }">
                  <td class="num">{{ w.number }}</td><td v-if="keys.length > 1">{{ w.key }}</td><td class="nowrap">{{ moment(w.from) }}</td><td class="nowrap">{{ moment(w.to) }}</td>
                  <td><span :class="{ soft: w.state === 'withdrawn' }">{{ signs[w.state] }} {{ w.state }}</span></td><td>{{ w.events.slice(0, 12).join(', ') || '–' }}<span v-if="w.events.length > 12" class="soft"> and {{ count(w.events.length - 12) }} more</span></td><td>{{ w.holds || '–' }}</td>
                </tr>
              </tbody>
            </table>
          </div>
          <p v-if="!held.length" class="soft small">No window yet: step forward.</p>
        </section>
        <section class="sheet" aria-label="Rows">
          <header><h2>Rows of each step</h2><span class="soft">{{ order === 'arrival' ? 'as they would come by arrival' : 'as they were published' }}, the newest first</span></header>
          <div v-for="p in shownParts" :key="p.name" class="part">
            <strong>{{ p.name }}</strong> <span class="soft">{{ count(p.count) }} {{ p.count === 1 ? 'row' : 'rows' }}{{ p.count > p.rows.length ? `, the newest ${p.rows.length} shown` : '' }}</span>
            <RowsGrid :fields="p.fields" :rows="p.rows" :height="170"><template #more="{ index }"><span class="soft nowrap">after {{ p.at[index] }}</span></template></RowsGrid>
          </div>
          <StateNote v-if="!shownParts.length" :loading="played.busy.value" :problem="null">No rows yet: give events, and step forward.</StateNote>
        </section>
      </div>
    </div>
  </template>
</template>

<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElRadioButton, ElRadioGroup, ElSelect } from 'element-plus'
import { computed, defineAsyncComponent, reactive, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { documentOf, lessons } from '../document/lessons'
import { addEntry } from '../document/splice'
import { count, moment } from '../format'
import { ask, part as escaped, post, type Schemas } from '../http'
import RowsGrid from '../parts/RowsGrid.vue'
import StateNote from '../parts/StateNote.vue'
import { useAsked } from '../use/asked'
import { useDraft } from '../use/draft'
import { usePlay, type Line } from '../use/play'

const props = defineProps<{
  /** The lesson in the address, or "own" for the draft; empty for the draft where there is one, else the first lesson. */
  lesson?: string
  /** A job whose newest events are to be played. */
  job?: string
}>()

const TideChart = defineAsyncComponent(() => import('../parts/TideChart.vue'))
const signs: Record<string, string> = { open: '◌', closed: '●', corrected: '◆', withdrawn: '✕' }

const router = useRouter()
const draft = useDraft()
const { checked, plan } = draft
const lesson = computed(() => lessons.find((l) => l.name === props.lesson) ?? (props.job || draft.text.value ? undefined : lessons[0]))
const dials = reactive<Record<string, number>>({})
const text = computed(() => (lesson.value ? documentOf(lesson.value, dials) : draft.text.value))
const faults = computed(() => checked.value?.faults.length ?? 0)
const ready = computed(() => !!lesson.value || (checked.value !== null && draft.checkedText.value === draft.text.value && faults.value === 0))
const sources = computed(() => (lesson.value ? [...new Set(lesson.value.events.flatMap((e) => (e.source ? [e.source] : [])))] : (plan.value?.sources.map((s) => s.name) ?? [])))
const { source, pointed, held, lines, at, order, played, moments, dots, watermark, bands, pairs, reaches, joined, windowed, step, keys, key, sentence, shownParts, give, add } = usePlay(text, ready, sources)

watch(
  lesson,
  (l) => {
    for (const d of l?.dials ?? []) dials[d.name] = d.start
    order.value = 'time'
    give(l?.events ?? [])
  },
  { immediate: true },
)
const pointing = computed(() => {
  if (pointed.value === null) return ''
  const n = moments.value[pointed.value]?.windows.length ?? 0
  const numbers = held.value.filter((w) => w.lit).map((w) => w.number)
  if (pointed.value >= at.value) return `event ${pointed.value + 1} has not come yet`
  return n === 0 ? `event ${pointed.value + 1} is in no window` : `event ${pointed.value + 1} is in ${numbers.length === 1 ? 'window' : 'windows'} ${numbers.join(', ')}`
})

/** Whether events are to be taken as soon as the document can be played. */
const wanted = ref(false)
/** Takes a job's newest version as the draft, and its newest events. */
const loading = useAsked(async (name: string) => {
  const v = await ask<Schemas['Version']>(`/jobs/${escaped(name)}/versions/newest`)
  return (await draft.begin(v.document ?? '', `${v.job} version ${v.number}`)) ? v : null
})
watch(
  () => props.job,
  async (name) => {
    if (name && (await loading.ask(name))) wanted.value = true
  },
  { immediate: true },
)
watch([wanted, ready], async () => {
  if (!wanted.value || !ready.value || lesson.value) return
  wanted.value = false
  await take()
})

const many = ref(300)
const sampling = useAsked(() => post<Schemas['Peek']>(`/documents/peek?source=${escaped(source.value)}&rows=${many.value}`, { document: text.value }))
async function take() {
  const own = source.value
  const all: { text: string; source: string; at: number }[] = []
  // Those of other sources are taken along, spread evenly between: a join reads several.
  for (const name of [own, ...sources.value.filter((s) => s !== own)]) {
    source.value = name
    const p = await sampling.ask()
    const events = p?.events ?? []
    all.push(...events.map((e, i) => ({ text: e.text, source: name, at: (i + 1) / events.length })))
  }
  source.value = own
  if (!all.length) return
  give(all.toSorted((a, b) => a.at - b.at).map((e) => ({ source: e.source, text: e.text, raw: true, clock: '' })))
  hand.value = all.filter((e) => e.source === own).at(-1)?.text ?? ''
}
const hand = ref('')
async function byHand() {
  const given = hand.value.trim()
  if (!given) return
  const clock = /^clock\s+(\S+)$/.exec(given)
  const line: Line = clock ? { source: '', text: '', raw: false, clock: clock[1]! } : { source: source.value, text: given, raw: true, clock: '' }
  if (!clock && given.startsWith('{')) {
    try {
      const v = JSON.parse(given) as Record<string, unknown>
      const known = (checked.value?.plan?.sources.find((s) => s.name === source.value)?.fields ?? []).map((f) => f.split(' ')[0])
      line.raw = !Object.keys(v).every((k) => known.includes(k)) // by the names of the fields, or as the stream has it
    } catch {
      line.raw = true
    }
  }
  await add(line)
}

async function asExample() {
  const e = played.data.value?.example
  if (!e) return
  draft.text.value = addEntry(draft.text.value, 'examples', e)
  await router.push('/build')
}
</script>

<style scoped>
.head { display: flex; align-items: center; gap: 12px; margin-bottom: 12px; }
.desk { display: grid; grid-template-columns: 280px minmax(0, 1fr); gap: 14px; align-items: start; }
.side { display: grid; gap: 14px; min-width: 0; }
.byhand { display: flex; gap: 6px; margin-bottom: 8px; }
.events { list-style: none; margin: 0; padding: 0; max-height: 640px; overflow: auto; font-size: 11px; }
.events li { padding: 2px 4px; border-bottom: 1px solid var(--line); color: var(--soft); overflow-wrap: anywhere; }
.events li.past { color: var(--ink); }
.events li.now { background: var(--sea-soft); }
.events .mono { font-size: 10.5px; }
.to { border: 0; background: none; color: var(--sea); font: inherit; cursor: pointer; padding: 0 6px 0 0; min-width: 26px; text-align: right; }
.now { margin: 0 0 4px; }
.slide { width: 100%; accent-color: var(--sea); margin: 0 0 2px; }
.small { font-size: 11.5px; margin: 2px 0 0; }
.lessons { display: flex; flex-wrap: wrap; gap: 8px; align-items: center; margin-bottom: 10px; }
.chip { padding: 3px 10px; border: 1px solid var(--line); border-radius: 12px; text-decoration: none; color: var(--ink); }
.chip.here { border-color: var(--sea); background: var(--sea-soft); font-weight: 600; }
.about { max-width: 92ch; margin-bottom: 12px; }
.about p { margin: 0 0 4px; }
.about pre { margin: 4px 0 0; overflow: auto; }
.dials { display: flex; gap: 24px; margin: 6px 0; }
.dials label { display: flex; gap: 8px; align-items: center; }
.dials input { width: 220px; accent-color: var(--sea); }
.events li.pointed { outline: 1px solid var(--sea); outline-offset: -1px; }
.some { max-height: 220px; }
tr.lit { background: var(--sea-soft); }
.part { margin-bottom: 10px; }
</style>
