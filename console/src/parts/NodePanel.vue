<template>
  <div class="panel" :aria-label="`Details of ${name}`" role="region">
    <header>
      <h2>{{ label }}</h2>
      <span class="soft">{{ kind }}</span>
      <span class="grow" />
      <ElButton size="small" text @click="emit('close')">Close</ElButton>
    </header>
    <div class="columns">
      <div>
        <dl>
          <template v-for="[k, v] in words" :key="k"><dt>{{ k }}</dt><dd>{{ v }}</dd></template>
        </dl>
      </div>
      <div v-if="counts.length">
        <table class="plain">
          <tbody><tr v-for="[k, v] in counts" :key="k"><td>{{ k }}</td><td class="num">{{ v }}</td></tr></tbody>
        </table>
        <p class="soft">{{ balance }}</p>
      </div>
      <div v-if="sides.length" class="twice">
        <table class="plain">
          <thead><tr><th>side</th><th class="num">rows</th><th class="num">matched</th><th class="num">met none</th><th class="num">rate</th><th class="num">late</th><th class="num">waiting</th><th class="num">kept</th><th class="num">memory</th></tr></thead>
          <tbody><tr v-for="s in sides" :key="s.name"><td>{{ s.name }}</td><td class="num">{{ count(s.rows) }}</td><td class="num">{{ count(s.matched) }}</td><td class="num">{{ count(s.unmatched) }}</td><td class="num">{{ s.rate }}</td><td class="num">{{ count(s.late) }}</td><td class="num">{{ count(s.waiting) }}</td><td class="num">{{ count(s.kept) }}</td><td class="num">{{ bytes(s.kept_bytes) }}</td></tr></tbody>
        </table>
        <p v-for="s in sides.filter((s) => s.heaviest.length > 0 && s.heaviest[0]!.rows > 1)" :key="s.name" class="soft">most rows kept of the {{ s.name }}: {{ s.heaviest.slice(0, 3).map((k) => `${k.key} (${count(k.rows)})`).join(', ') }}</p>
      </div>
      <div v-if="partitions.length" class="scroll" tabindex="0">
        <table class="plain">
          <thead><tr><th>partition</th><th class="num">position</th><th class="num">end</th><th>watermark</th></tr></thead>
          <tbody>
            <tr v-for="p in partitions" :key="p.name"><td>{{ p.name }}{{ p.idle ? ' (idle)' : '' }}</td><td class="num">{{ count(p.position) }}</td><td class="num">{{ count(p.end) }}</td><td :title="p.watermark ?? ''">{{ moment(p.watermark) }}</td></tr>
          </tbody>
        </table>
      </div>
      <div v-if="lanes.length">
        <table class="plain">
          <thead><tr><th>lane</th><th class="num">rows</th><th class="num">keys</th></tr></thead>
          <tbody><tr v-for="(l, i) in lanes" :key="i"><td>{{ i + 1 }}</td><td class="num">{{ count(l.rows_in) }}</td><td class="num">{{ count(l.keys) }}</td></tr></tbody>
        </table>
      </div>
    </div>
    <SinkRows v-if="sink?.readable && run" :job="plan.job" :sink="label" />
    <template v-if="kind !== 'sink' && run">
      <div class="tabs" role="tablist">
        <button v-for="v in views" :key="v" type="button" role="tab" :aria-selected="v === view" @click="view = v">{{ v }}</button>
      </div>
      <RowsTable v-if="view" :run="run" :step="view" :rows-shown="8" />
    </template>
  </div>
</template>

<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, ref, watch } from 'vue'

import { bytes, count, figure, moment, percent, secondsSince, span } from '../format'
import type { Schemas } from '../http'
import RowsTable from './RowsTable.vue'
import SinkRows from './SinkRows.vue'

const props = defineProps<{
  /** A part of the map; sinks begin with "sink ". */
  name: string
  plan: Schemas['Plan']
  figures: Schemas['Figures'] | null
  run: number | null
}>()
const emit = defineEmits<{ close: [] }>()

const label = computed(() => props.name.replace(/^sink /, ''))
const source = computed(() => props.plan.sources.find((s) => s.name === props.name))
const step = computed(() => props.plan.steps.find((s) => s.name === props.name))
const sink = computed(() => props.plan.sinks.find((s) => `sink ${s.name}` === props.name))
const reference = computed(() => props.plan.references.find((r) => r.name === props.name))
const kind = computed(() => (source.value ? 'source' : reference.value ? 'reference' : step.value ? 'step' : 'sink'))

const words = computed<[string, string][]>(() => {
  if (source.value) return [['reads', source.value.reads], ['fields', source.value.fields.join(', ')], ['event time', source.value.event_time], ['watermark', source.value.watermark], ...(postsOf.value ? [['posts', postsOf.value] as [string, string]] : [])]
  if (step.value) {
    const s = step.value
    return [['does', s.does.join('; ')], ['key', s.key.join(', ') || 'none'], ['fields', s.fields.join(', ')], ['state', s.bound ? `${s.state}; ${s.bound}` : s.state], ['delay', s.delay]]
  }
  if (reference.value) {
    const r = reference.value
    return [['reads', r.reads], ['when', r.refresh], ['key', r.key.join(', ')], ['fields', r.fields.join(', ')], ...(r.limit ? [['size', r.limit] as [string, string]] : []), ...(troubleOf.value ? [['trouble', troubleOf.value] as [string, string]] : [])]
  }
  if (sink.value) return [['writes', sink.value.writes], ['takes', sink.value.from], ['delivery', sink.value.delivery]]
  return []
})

/** What became of posts to a source that takes some. */
const postsOf = computed(() => {
  const p = props.figures?.sources[props.name]?.posts
  return p ? `${count(p.taken)} taken, ${count(p.again)} again, ${count(p.turned_away)} turned away; ${count(p.refused)} events refused; ${bytes(p.bytes)}` : ''
})

const troubleOf = computed(() => props.figures?.references[props.name]?.trouble ?? '')

/** What became of the rows of both sides of a join. */
const sides = computed(() => {
  const j = step.value && props.figures?.steps[props.name]?.join
  if (!j) return []
  return [{ name: 'left', ...j.left }, { name: 'right', ...j.right }].map((s) => ({ ...s, rate: s.matched + s.unmatched > 0 ? percent(s.unmatched / (s.matched + s.unmatched)) : '–' }))
})

function total(by: Record<string, number> | undefined): number {
  return Object.values(by ?? {}).reduce((a, b) => a + b, 0)
}

const counts = computed<[string, string][]>(() => {
  const f = props.figures
  if (!f) return []
  const out: [string, string][] = []
  const rejects = (by: Record<string, number>) => {
    for (const [reason, n] of Object.entries(by)) out.push([`rejected: ${reason}`, count(n)])
  }
  const s = f.sources[props.name]
  if ((source.value ?? reference.value) && s) {
    out.push(['events read', count(s.read)], ['bytes', bytes(s.bytes)])
    rejects(s.rejected)
  }
  const t = f.steps[props.name]
  if (step.value && t) {
    out.push(['rows in', count(t.rows_in)], ['used', count(t.used)])
    if (t.made === 0) out.push(['dropped', count(t.dropped)])
    if (t.repeats > 0) out.push(['repeats', count(t.repeats)])
    out.push(['late, lost', count(t.late.lost)])
    if (t.late.partial > 0) out.push(['late for one window', count(t.late.partial)])
    if (t.late.accepted > 0) out.push(['late, accepted', count(t.late.accepted)])
    if (t.left_out > 0) out.push(['left out by collect', count(t.left_out)])
    rejects(t.rejected)
    if (t.made > 0 && t.dropped > 0) out.push(['result rows', count(t.made)], ['dropped by having', count(t.dropped)])
    out.push(['rows out', count(t.rows_out)])
    if (step.value.state !== 'none') out.push(['open windows', count(t.open_windows)], ['next closes at', moment(t.next_close)])
    if (t.kept_windows > 0) out.push(['closed, kept for late rows', count(t.kept_windows)])
    if (t.forgotten > 0) out.push(['keys forgotten', count(t.forgotten)])
    if (t.state_rows > 0) out.push(['rows of state', count(t.state_rows)])
    if (t.watermark) out.push(['watermark', moment(t.watermark)])
    if (t.last_out) out.push(['last row', `${span(secondsSince(t.last_out))} ago`])
  }
  if (step.value && t?.lookup) {
    out.push([`found in ${t.lookup.reference}`, count(t.lookup.found)], ['missed', count(t.lookup.missed)], ['with a null', count(t.lookup.null)])
    if (t.lookup.misses.length) out.push(['some that were missed', t.lookup.misses.join('; ')])
  }
  if (step.value && t?.join) out.push(['pairs', count(t.join.pairs)])
  const ref = f.references[props.name]
  if (reference.value && ref) {
    out.push(['rows', count(ref.rows)], ['memory', bytes(ref.bytes)], ['read, or newest row', `${moment(ref.loaded)} UTC`], ['content', ref.digest], ['readings that failed', count(ref.failed)])
    if (ref.rejected > 0) out.push(['not taken', count(ref.rejected)], ['of them for a null in the key', count(ref.unkeyed)], ['the first', ref.first ?? ''])
  }
  const k = f.sinks[label.value]
  if (sink.value && k) out.push(['rows taken', count(k.rows)], ['delivered', count(k.delivered)], ['waiting', count(k.waiting)], ['retries', count(k.retries)])
  if (sink.value && k) {
    for (const [name, d] of [['after the event', k.event_delay], ['after reading', k.read_delay]] as const) {
      if (d.p50_seconds !== null && d.p99_seconds !== null) out.push([`${name}: half within`, figure(d.p50_seconds, 'seconds')], [`${name}: 99 % within`, figure(d.p99_seconds, 'seconds')])
    }
  }
  if (sink.value && k && k.refused > 0) out.push(['refused, kept in undertide_refused', count(k.refused)], ['why, of the newest', k.refusal || 'of an earlier run'])
  return out
})

const balance = computed(() => {
  const t = step.value && props.figures?.steps[props.name]
  if (!t) return ''
  const rest = t.rows_in - t.used - (t.made > 0 ? 0 : t.dropped) - t.repeats - t.late.lost - total(t.rejected)
  return rest === 0 ? 'The counts add up.' : `${count(rest)} rows are on their way through the lanes.`
})

const partitions = computed(() => (source.value ?? reference.value ? (props.figures?.sources[props.name]?.partitions ?? []) : []))
const lanes = computed(() => (step.value ? (props.figures?.steps[props.name]?.lanes ?? []) : []))

const views = computed(() => {
  if (reference.value?.of.length) return [] // it keeps no rows of its own
  return [...(step.value?.parts ?? [props.name]), ...(reference.value ? [] : [`rejects of ${props.name}`])]
})
const view = ref(views.value[0] ?? '')
watch(() => props.name, () => (view.value = views.value[0] ?? ''))
</script>

<style scoped>
.panel { border-top: 1px solid var(--line); margin-top: 10px; padding-top: 10px; }
.panel > header { display: flex; gap: 10px; align-items: baseline; }
.columns { display: grid; grid-template-columns: minmax(280px, 1.4fr) repeat(auto-fit, minmax(190px, 1fr)); gap: 22px; }
dl { display: grid; grid-template-columns: 84px 1fr; gap: 3px 10px; margin: 6px 0; font-size: 12.5px; }
dt { color: var(--soft); }
dd { margin: 0; overflow-wrap: anywhere; }
.twice { grid-column: span 2; min-width: 420px; overflow-x: auto; }
.twice table.plain :is(th, td) { padding-right: 9px; }
.twice table.plain :is(th, td):last-child { padding-right: 0; }
.tabs { display: flex; gap: 6px; margin: 8px 0 4px; }
.tabs button { border: 1px solid var(--line); background: none; color: var(--soft); font: inherit; font-size: 12px; padding: 2px 10px; border-radius: 12px; cursor: pointer; }
.tabs button[aria-selected='true'] { color: var(--sea); border-color: var(--sea); font-weight: 600; }
</style>
