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
          <TideChart :dots="dots" :watermark="watermark" :bands="bands" :pairs="pairs" :reaches="reaches" :room="Math.max(10, moments.length)" label="Event time against arrival" across="arrival" @choose="at = $event + 1" />
          <p class="soft small">Dots are events, ✕ late ones; the line is the watermark; a window is filled while it is open, and shows its result once it closed.<template v-if="joined.length"> Diamonds are of the right side of {{ joined[0] }}; a bar behind a dot holds the times that its partners may have, both ends included, and a line joins a pair.</template></p>
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
import { defineAsyncComponent, ref } from 'vue'
import { useRouter } from 'vue-router'

import { addEntry } from '../document/splice'
import { count } from '../format'
import { part as escaped, post, type Schemas } from '../http'
import RowsGrid from '../parts/RowsGrid.vue'
import StateNote from '../parts/StateNote.vue'
import { useAsked } from '../use/asked'
import { usePlay, type Line } from '../use/play'

const TideChart = defineAsyncComponent(() => import('../parts/TideChart.vue'))

const router = useRouter()
const { text, checked, plan, faults, sources, source, lines, at, order, played, moments, dots, watermark, bands, pairs, reaches, joined, windowed, step, keys, key, sentence, shownParts, give, add } = usePlay()

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
  text.value = addEntry(text.value, 'examples', e)
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
