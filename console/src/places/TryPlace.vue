<template>
  <header class="head">
    <h1>Try</h1>
    <span class="soft">{{ plan?.job ? `${plan.job}: one event at a time` : 'one event at a time' }}</span>
    <span class="grow" />
    <ElButton v-if="played.data.value" size="small" @click="asExample">Save as an example</ElButton>
    <ElButton size="small" @click="router.push('/build')">To the document</ElButton>
  </header>
  <StateNote v-if="!text" :loading="false" :problem="null">Try plays events through a document. <RouterLink to="/build">Begin one in Build</RouterLink>, from a topic or from a job.</StateNote>
  <StateNote v-else-if="faults" :loading="false" :problem="null">The document has {{ faults }} mistakes. <RouterLink to="/build">Mend them in Build</RouterLink> first.</StateNote>
  <template v-else>
    <div class="desk">
      <section class="sheet" aria-label="Events">
        <header>
          <h2>Events</h2>
          <ElSelect v-if="sources.length > 1" v-model="source" size="small" style="width: 120px" aria-label="Source"><ElOption v-for="s in sources" :key="s" :value="s" :label="s" /></ElSelect>
          <span class="grow" />
          <ElButton size="small" text @click="lines = []">Empty</ElButton>
        </header>
        <div class="byhand">
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
          <li v-for="(l, i) in lines" :key="i" :class="{ past: i < at, now: i === at - 1, late: i < at && moments[i]?.late }">
            <button type="button" class="to" :aria-label="`up to event ${i + 1}`" @click="at = i + 1">{{ i + 1 }}</button>
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
            <ElSelect v-if="keys.length" v-model="key" size="small" style="width: 130px" aria-label="Key"><ElOption value="all" label="all keys" /><ElOption v-for="k in keys" :key="k" :value="k" :label="k" /></ElSelect>
            <ElRadioGroup v-model="order" size="small" aria-label="Order"><ElRadioButton value="time">by event time</ElRadioButton><ElRadioButton value="arrival">by arrival</ElRadioButton></ElRadioGroup>
            <span class="grow" />
            <ElButton size="small" :disabled="at === 0" aria-label="Back to the beginning" @click="at = 0">|◀</ElButton>
            <ElButton size="small" :disabled="at === 0" aria-label="One event back" @click="at--">◀</ElButton>
            <ElButton size="small" type="primary" :disabled="at >= moments.length" aria-label="Next event" @click="at++">▶</ElButton>
            <ElButton size="small" :disabled="at >= moments.length" aria-label="To the end" @click="at = moments.length">▶|</ElButton>
          </header>
          <input v-model.number="at" class="slide" type="range" min="0" :max="moments.length" aria-label="How many events are given" />
          <p class="now" role="status">{{ sentence }}</p>
          <TideChart :dots="dots" :watermark="watermark" :bands="bands" :room="Math.max(10, moments.length)" label="Event time against arrival" across="arrival" @choose="at = $event + 1" />
          <p class="soft small">Dots are events, ✕ late ones; the line is the watermark; a window is filled while it is open, and shows its result once it closed.</p>
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
import { computed, defineAsyncComponent, ref, shallowRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import { addEntry } from '../document/splice'
import { count, moment, span } from '../format'
import { part as escaped, post, type Schemas } from '../http'
import RowsGrid from '../parts/RowsGrid.vue'
import StateNote from '../parts/StateNote.vue'
import { useAsked } from '../use/asked'
import { useDraft } from '../use/draft'

const TideChart = defineAsyncComponent(() => import('../parts/TideChart.vue'))

interface Line {
  source: string
  /** The event as it is given: JSON, or the raw text. */
  text: string
  /** Whether text is raw. */
  raw: boolean
  clock: string
}

const router = useRouter()
const draft = useDraft()
const { text, checked, plan } = draft
const faults = computed(() => checked.value?.faults.length ?? 0)
const sources = computed(() => plan.value?.sources.map((s) => s.name) ?? [])
const source = ref('')
watch(sources, (s) => s.includes(source.value) || (source.value = s[0] ?? ''), { immediate: true })

const lines = shallowRef<Line[]>([])
const at = ref(0)
const order = ref('time')
const played = useAsked(() =>
  post<Schemas['Played']>('/documents/play', {
    document: text.value, by_arrival: order.value === 'arrival',
    events: lines.value.map((l) => (l.clock ? { clock: l.clock } : { source: l.source, event: l.raw ? l.text : (JSON.parse(l.text) as unknown) })),
  }),
)
const moments = computed(() => played.data.value?.moments ?? [])
watch([lines, order, checked], async () => {
  if (!lines.value.length || !checked.value || faults.value) {
    played.data.value = null
    at.value = 0
    return
  }
  await played.ask()
})

const many = ref(300)
const sampling = useAsked(() => post<Schemas['Peek']>(`/documents/peek?source=${escaped(source.value)}&rows=${many.value}`, { document: text.value }))
async function take() {
  const p = await sampling.ask()
  if (!p) return
  lines.value = p.events.map((e) => ({ source: source.value, text: e.text, raw: true, clock: '' }))
  at.value = 0
  hand.value = p.events.at(-1)?.text ?? ''
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
  const next = [...lines.value, line]
  lines.value = next
  await played.ask()
  at.value = next.length
}

function seen(m: Schemas['Moment']): string {
  return m.event.length > 120 ? `${m.event.slice(0, 119)}…` : m.event
}
const past = computed(() => moments.value.slice(0, at.value))
const dots = computed(() => past.value.flatMap((m, i) => (m.time ? [{ arrival: i, at: Date.parse(m.time), late: m.late, text: `${m.time}\n${seen(m)}` }] : [])))
const watermark = computed(() => past.value.flatMap((m, i) => (m.after ? [{ arrival: i, at: Date.parse(m.after) }] : [])))
const windowed = computed(() => [...new Set((played.data.value?.windows ?? []).map((w) => w.step))])
const step = ref('')
watch(windowed, (w) => w.includes(step.value) || (step.value = w[0] ?? ''), { immediate: true })
const keys = computed(() => [...new Set((played.data.value?.windows ?? []).filter((w) => w.step === step.value).map((w) => w.key))].filter(Boolean).sort())
const key = ref('all')
watch(keys, (k) => k.includes(key.value) || (key.value = 'all'))
const measures = computed(() => {
  const fields = played.data.value?.parts.find((p) => p.name === step.value)?.fields.map((f) => f.split(' ')[0]!) ?? []
  const from = fields.indexOf('window_end')
  return fields.slice(from + 1).filter((f) => !['revision', 'closed', 'withdrawn'].includes(f))
})
const bands = computed(() => {
  const mine = (played.data.value?.windows ?? []).filter((w) => w.step === step.value && (key.value === 'all' || w.key === key.value) && w.opened < at.value)
  // All keys together: a window is one band, closed when its first row came.
  const by = new Map<string, typeof mine>()
  for (const w of mine) {
    const id = `${w.start} ${w.end}`
    by.set(id, [...(by.get(id) ?? []), w])
  }
  return [...by.values()].map((list) => {
    const w = list[0]!
    const closed = Math.min(...list.map((x) => x.closed))
    const row = (w.rows.at(-1) ?? {}) as Record<string, unknown>
    const first = measures.value[0] ?? ''
    const whole = list.map((x) => (x.rows.at(-1) as Record<string, unknown>)[first])
    const sum = whole.every((v) => Number.isInteger(v)) ? `, ${first} ${count(whole.reduce((n: number, v) => n + (v as number), 0))}` : ''
    const total = list.length > 1 ? `${list.length} keys${sum}` : measures.value.slice(0, 2).map((m) => `${m} ${typeof row[m] === 'number' ? Math.round((row[m] as number) * 100) / 100 : String(row[m])}`).join(', ')
    const corrected = list.some((x) => x.rows.length > 1)
    return {
      start: Date.parse(w.start), end: Date.parse(w.end), opened: Math.min(...list.map((x) => x.opened)), closed: Math.min(closed, at.value - 0.5),
      done: closed < at.value,
      text: closed < at.value ? `${total || first}${corrected ? ', corrected' : ''}` : '', withdrawn: list.every((x) => x.withdrawn),
    }
  })
})
const sentence = computed(() => {
  const m = moments.value[at.value - 1]
  if (!lines.value.length) return 'Take events from the stream, or write one by hand.'
  if (!m) return `${lines.value.length} events wait. ▶ gives the next.`
  if (at.value === moments.value.length) return `The end of all input: the watermark passes everything, and what was open closes. ${m.rows.length} rows.`
  if (m.clock) return `${m.clock} pass. ${m.rows.length ? `${m.rows.length} rows.` : ''}`
  if (m.reject) return `Event ${at.value} is a reject: ${m.reject}.`
  const parts = [`Event ${at.value} happened at ${moment(m.time)}`]
  if (m.late && m.before && m.time) parts.push(`it is late: the watermark stood at ${moment(m.before)}, ${span((Date.parse(m.before) - Date.parse(m.time)) / 1000)} beyond it`)
  else if (m.after && m.after !== m.before) parts.push(`the watermark goes on to ${moment(m.after)}`)
  else if (m.after) parts.push(`the watermark stays at ${moment(m.after)}`)
  const published = m.rows.filter((r) => windowed.value.includes(r.part)).length
  if (published) parts.push(`${published} ${published === 1 ? 'window closes or is corrected' : 'windows close or are corrected'}`)
  const lost = m.rows.filter((r) => r.part.startsWith('late of')).map((r) => r.part.slice(8))
  if (lost.length) parts.push(`it is lost to ${lost.join(', ')}`)
  return `${parts.join('; ')}.`
})
const shownParts = computed(() =>
  (played.data.value?.parts ?? [])
    .map((p) => {
      const found = past.value.flatMap((m, i) => m.rows.filter((r) => r.part === p.name).map((r) => ({ row: r.row as Record<string, unknown>, at: i + 1 })))
      found.reverse()
      return { name: p.name, fields: p.fields, count: found.length, rows: found.slice(0, 100).map((f) => f.row), at: found.map((f) => (f.at > lines.value.length ? 'the end' : String(f.at))) }
    })
    .filter((p) => p.rows.length)
    .reverse(),
)
async function asExample() {
  const e = played.data.value?.example
  if (!e) return
  draft.begin(addEntry(text.value, 'examples', e), draft.origin.value)
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
.part { margin-bottom: 10px; }
</style>
