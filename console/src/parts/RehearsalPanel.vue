<template>
  <div>
    <ul v-if="rehearsal.warnings.length" class="warnings" aria-label="What the sample shows">
      <li v-for="(w, i) in rehearsal.warnings" :key="i" class="notice"><strong>{{ w.at }}: {{ w.text }}</strong>; {{ w.fix }}.</li>
    </ul>
    <div class="chips" role="tablist" aria-label="Parts">
      <button v-for="p in parts" :key="p.name" type="button" role="tab" class="chip" :class="{ on: p.name === chosen, amber: p.amber }" :aria-selected="p.name === chosen" @click="chosen = p.name">{{ p.label }}</button>
    </div>
    <p v-if="step?.forecast && chosen === step.name" class="soft small">{{ forecastText(step.forecast) }}</p>
    <template v-if="step && step.examples.length && chosen === step.name">
      <p class="soft small">{{ count(step.in) }} rows in, {{ count(step.out) }} kept, {{ count(step.dropped) }} dropped; five of each, as they came in.</p>
      <RowsGrid :fields="inputFields" :rows="step.examples.map((e) => e.row as Record<string, unknown>)">
        <template #more="{ index }"><span :class="{ soft: !step.examples[index]!.kept }">{{ step.examples[index]!.kept ? '✓ kept' : `✕ dropped: ${step.examples[index]!.why}` }}</span></template>
      </RowsGrid>
    </template>
    <template v-else-if="shown">
      <p class="soft small">{{ sentence }}</p>
      <RowsGrid v-if="shown.rows.length" :fields="shown.fields" :rows="shown.rows as Record<string, unknown>[]" />
      <StateNote v-else :loading="false" :problem="null">No rows of the sample came here.</StateNote>
    </template>
    <template v-else-if="sink">
      <p class="soft small">{{ count(sink.count) }} rows of {{ sink.from }} would go to {{ sink.writes }}. Nothing was delivered.</p>
      <p v-if="sink.makes" class="small"><strong>Makes</strong> {{ sink.makes }}.</p>
    </template>
  </div>
</template>

<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { bytes, count, moment } from '../format'
import type { Schemas } from '../http'
import RowsGrid from './RowsGrid.vue'
import StateNote from './StateNote.vue'

const props = defineProps<{
  rehearsal: Schemas['Rehearsal']
  /** The part that is looked at on the map: a source's or step's name, or "sink NAME". */
  part: string
}>()

function forecastText(f: Schemas['Forecast']): string {
  return `State: about ${count(f.rows)} rows, ${bytes(f.bytes)}, once as much goes as comes; it is bounded by ${f.bound}.`
}

const chosen = ref('')
const parts = computed(() => {
  const out: { name: string; label: string; amber: boolean }[] = []
  for (const s of props.rehearsal.sources) for (const p of s.parts) if (p.count || p.name === s.name) out.push({ name: p.name, label: `${p.name} ${count(p.count)}`, amber: p.name.startsWith('rejects') })
  for (const s of props.rehearsal.steps)
    for (const p of s.parts) {
      const own = p.name === s.name
      if (p.count || own) out.push({ name: p.name, label: own && s.dropped ? `${s.name} ${count(s.out)} kept, ${count(s.dropped)} dropped` : `${p.name} ${count(p.count)}`, amber: /^(rejects|late) of/.test(p.name) })
    }
  for (const s of props.rehearsal.sinks) out.push({ name: `sink ${s.name}`, label: `sink ${s.name} ${count(s.count)}`, amber: false })
  return out
})
watch(
  () => [props.part, props.rehearsal] as const,
  ([part]) => {
    const known = parts.value.map((p) => p.name)
    if (part && known.includes(part)) chosen.value = part
    else if (part && known.some((k) => k.endsWith(` of ${part}`))) chosen.value = known.find((k) => k.endsWith(` of ${part}`))!
    else if (!known.includes(chosen.value)) chosen.value = props.rehearsal.steps.at(-1)?.parts[0]?.name ?? known[0] ?? ''
  },
  { immediate: true },
)
const step = computed(() => props.rehearsal.steps.find((s) => s.name === chosen.value))
const sink = computed(() => props.rehearsal.sinks.find((s) => `sink ${s.name}` === chosen.value))
const all = computed(() => [...props.rehearsal.sources.flatMap((s) => s.parts), ...props.rehearsal.steps.flatMap((s) => s.parts)])
const shown = computed(() => all.value.find((p) => p.name === chosen.value))
const inputFields = computed(() => {
  const first = step.value?.from.split(', ')[0] ?? ''
  return all.value.find((p) => p.name === first)?.fields ?? Object.keys((step.value?.examples[0]?.row ?? {}) as object).map((n) => `${n} string`)
})
const sentence = computed(() => {
  const p = shown.value
  if (!p) return ''
  const src = props.rehearsal.sources.find((s) => s.name === p.name)
  const rows = `${count(p.count)} rows${p.count > p.rows.length ? `, the first ${p.rows.length} shown` : ''}`
  if (src?.from) return `${rows}; event times from ${moment(src.from)} to ${moment(src.to)} UTC.`
  const s = props.rehearsal.steps.find((x) => x.name === p.name)
  if (!s) return `${rows}.`
  const more = [s.lost ? `${count(s.lost)} late and lost` : '', s.accepted ? `${count(s.accepted)} late and accepted` : '', s.repeats ? `${count(s.repeats)} repeats` : '', s.overlap ? `${count(s.overlap)} meet several conditions` : ''].filter(Boolean)
  return `${count(s.in)} rows in; ${rows}${more.length ? `; ${more.join(', ')}` : ''}.`
})
</script>

<style scoped>
.warnings { list-style: none; padding: 0; margin: 0 0 10px; }
.warnings .notice { margin-bottom: 6px; }
.chips { display: flex; flex-wrap: wrap; gap: 6px; margin-bottom: 8px; }
.chip { border: 1px solid var(--line); border-radius: 12px; background: var(--sheet); color: var(--ink); font: inherit; font-size: 12px; padding: 2px 10px; cursor: pointer; }
.chip.amber { background: var(--amber-soft); color: var(--amber); }
.chip.on { background: var(--sea); color: var(--sheet); border-color: var(--sea); }
.small { margin: 2px 0 6px; font-size: 12px; }
</style>
