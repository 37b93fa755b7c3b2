<template>
  <button type="button" class="part" :class="[part.kind, { keeps: part.keeps, chosen, wrong: note?.bad }]" :style="{ width: `${part.width}px`, height: `${part.height}px` }" :aria-pressed="chosen" :title="`${label}: ${part.does}`" @click="emit('choose')">
    <Handle v-if="part.kind !== 'source'" type="target" :position="Position.Left" />
    <span class="line"><b>{{ label }}</b><span class="rate">{{ flow }}</span></span>
    <span class="does">{{ part.does }}</span>
    <span class="does" :class="{ warn: held, bad: note?.bad }">{{ note?.text ?? state }}</span>
    <span v-if="figures" class="work"><template v-if="work"><span class="bar" aria-hidden="true"><i class="busy" :style="{ width: `${work.busy * 100}%` }" /><i class="blocked" :style="{ width: `${work.blocked * 100}%` }" /></span>{{ work.says }}</template></span>
    <Handle v-if="part.kind !== 'sink'" type="source" :position="Position.Right" />
  </button>
</template>

<script setup lang="ts">
import { Handle, Position } from '@vue-flow/core'
import { computed } from 'vue'

import { bytes, count, moment, percent, rate } from '../format'
import type { Schemas } from '../http'
import type { MapPart } from './graph'

const props = defineProps<{
  part: MapPart
  figures: Schemas['Figures'] | null
  /** What is said of it where there are no figures. */
  note: { text: string; bad: boolean } | null
  /** Whether it is looked into. */
  chosen: boolean
}>()
const emit = defineEmits<{ choose: [] }>()

const label = computed(() => props.part.name.replace(/^sink /, ''))
const step = computed(() => (props.part.kind === 'step' ? props.figures?.steps[label.value] : undefined))
const rates = computed(() => props.figures?.rates)

const flow = computed(() => {
  const r = rates.value
  if (!r) return ''
  switch (props.part.kind) {
    case 'source': return `${rate(r.sources[label.value]?.read ?? 0)} in`
    case 'step': return rate(r.steps[label.value]?.out ?? 0)
    case 'reference': return ''
    default: return rate(r.sinks[label.value]?.rows ?? 0)
  }
})

// What keeps the run from its work, where it is here: the first cause that names this part.
const cause = computed(() => props.figures?.live.causes.find((c) => {
  const here = `${props.part.kind} ${label.value}`
  return c.at.split(', ').includes(here) || (c.kind === 'partition' && props.part.kind === 'source' && c.at.endsWith(` of ${label.value}`))
}))
const stale = computed(() => props.part.kind === 'reference' && Boolean(props.figures?.references[label.value]?.trouble))
const held = computed(() => Boolean(cause.value) || stale.value)

/** How much of the time it is at work, and waits for who takes its rows; of a sink, how long others waited for it. */
const work = computed(() => {
  const r = rates.value
  if (!r) return null
  const two = (busy: number, blocked: number) => ({ busy: Math.min(1, busy), blocked: Math.min(1 - Math.min(1, busy), blocked), says: `busy ${percent(busy)}, blocked ${percent(blocked)}` })
  switch (props.part.kind) {
    case 'source': {
      const s = r.sources[label.value]
      return s ? two(s.busy_ratio, s.blocked_ratio) : null
    }
    case 'step': {
      const s = r.steps[label.value]
      return s ? two(s.busy_ratio, s.blocked_ratio) : null
    }
    case 'sink': {
      const s = r.sinks[label.value]
      const busy = s ? s.writing_ratio + s.delivering_ratio : 0
      return s ? { busy: Math.min(1, busy), blocked: Math.min(1 - Math.min(1, busy), s.held_up_ratio), says: `busy ${percent(busy)}, holds up ${percent(s.held_up_ratio)}` } : null
    }
  }
  return null
})

const state = computed(() => {
  const f = props.figures
  if (!f) return ''
  if (stale.value) return 'not fresh: the last rows stay'
  switch (cause.value?.kind) {
    case 'unreachable': return 'waits: no answer'
    case 'undelivered': return `takes no rows: ${bytes(f.sinks[label.value]?.waiting_bytes ?? 0)} undelivered`
    case 'sink': return `holds up others ${percent(f.rates.sinks[label.value]?.held_up_ratio ?? 0)} of the time`
    case 'partition': return 'the watermark waits for a partition'
    case 'drops_all': return 'lets no row through'
    case 'null_keys': return `${count(step.value?.rejected['null key'] ?? 0)} rows have no key`
  }
  switch (props.part.kind) {
    case 'source': {
      const s = f.sources[label.value]
      return s ? (s.lag_events === null ? `${count(s.read)} read` : `lag ${count(s.lag_events)} of ${count(s.read)} read`) : ''
    }
    case 'reference': {
      const r = f.references[label.value]
      const versions = f.sources[label.value]
      return r ? `${count(r.rows)} rows · ${bytes(r.bytes)} · of ${moment(r.loaded)}` : versions ? `${count(versions.read)} versions read` : ''
    }
    case 'step': {
      const s = step.value
      if (!s) return ''
      if (s.join) return `${count(s.join.pairs)} pairs · ${count(s.join.left.unmatched)}, ${count(s.join.right.unmatched)} met none · ${bytes(s.state_bytes)}`
      if (s.lookup) return `${count(s.lookup.missed + s.lookup.null)} of ${count(s.rows_in)} not found`
      if (!props.part.keeps) return `${count(s.dropped)} dropped`
      return `${s.open_windows} open · ${count(s.keys)} keys · ${bytes(s.state_bytes)}`
    }
    default: {
      const s = f.sinks[label.value]
      return s ? `${count(s.rows)} ${s.rows === 1 ? 'row' : 'rows'}, ${count(s.waiting)} waiting` : ''
    }
  }
})
</script>

<style scoped>
.part { pointer-events: all; text-align: left; font: inherit; color: var(--ink); background: var(--ground); border: 1px solid var(--line); border-radius: 8px; padding: 4px 10px; cursor: pointer; display: block; }
.part.reference { border-style: dashed; }
.part.keeps { border-left: 4px solid var(--sea); padding-left: 7px; }
.part.chosen, .part:hover { border-color: var(--sea); }
.line { display: flex; justify-content: space-between; gap: 8px; font-size: 12px; }
.line b { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.rate { color: var(--sea); font-weight: 600; white-space: nowrap; }
.does { display: block; font-size: 10.5px; line-height: 1.45; color: var(--soft); white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
.work { display: flex; align-items: center; gap: 6px; font-size: 10.5px; line-height: 1.4; color: var(--soft); white-space: nowrap; }
.bar { display: flex; flex: 0 0 44px; height: 5px; border-radius: 3px; background: var(--line); overflow: hidden; }
.bar .busy { background: var(--sea); }
.bar .blocked { background: var(--amber); }
.part.wrong { background: var(--brick-soft); border-color: var(--brick); }
.does.warn { color: var(--amber); font-weight: 600; }
.part :deep(.vue-flow__handle) { opacity: 0; pointer-events: none; }
</style>
