<template>
  <div class="tiles">
    <div v-for="t in tiles" :key="t.name" class="sheet tile">
      <div class="soft">{{ t.name }}</div>
      <div class="value">{{ t.value }}</div>
      <SmallLine :values="t.line" :label="`${t.name} over the last half hour`" />
      <div class="soft">{{ t.note }}</div>
    </div>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'

import { bytes, count, moment, rate, span } from '../format'
import type { Schemas } from '../http'
import SmallLine from './SmallLine.vue'

const props = defineProps<{
  figures: Schemas['Figures']
  /** Figures of the last half hour; null before they are known. */
  past: Schemas['PastFigures'] | null
}>()

const tiles = computed(() => {
  const f = props.figures
  const l = f.live
  const line = (name: string) => props.past?.lines.find((l) => l.name === name)?.means ?? []
  const steps = Object.values(f.steps)
  const keys = steps.reduce((n, s) => n + s.keys, 0)
  const state = steps.reduce((n, s) => n + s.state_bytes, 0)
  const last = f.checkpoints.last
  return [
    { name: 'Lag', value: l.lag_events === null ? 'not known' : `${count(l.lag_events)} events`, note: l.lag_seconds === null ? 'of files and simulators' : `${span(l.lag_seconds)} behind, ${l.lag_trend}`, line: line('lag_events') },
    { name: 'Rows in, out', value: `${rate(l.in_per_second)}, ${rate(l.out_per_second)}`, note: `${count(Object.values(f.sources).reduce((n, s) => n + s.read, 0))} read`, line: line('in_per_second') },
    { name: 'Watermark age', value: l.watermark_age_seconds === null ? 'none yet' : span(l.watermark_age_seconds), note: `at ${moment(l.watermark)} UTC`, line: line('watermark_age_seconds') },
    { name: 'Late, rejected', value: `${count(l.late)}, ${count(l.rejected)}`, note: 'events lost, rows rejected', line: line('late_per_second') },
    { name: 'State', value: `${count(keys)} keys`, note: bytes(state), line: line('state_bytes') },
    { name: 'Checkpoint', value: last ? `${last.seconds < 1 ? `${Math.round(last.seconds * 1000)} ms` : span(last.seconds)}` : 'none yet', note: l.checkpoint_age_seconds === null ? '' : `${span(l.checkpoint_age_seconds)} ago, ${f.checkpoints.failed} failed`, line: line('checkpoint_age_seconds') },
  ]
})
</script>

<style scoped>
.tiles { display: grid; grid-template-columns: repeat(6, minmax(0, 1fr)); gap: 12px; margin-top: 14px; }
.tile { padding: 8px 12px; font-size: 12px; }
.value { font-size: 15px; font-weight: 650; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
@media (max-width: 1100px) { .tiles { grid-template-columns: repeat(3, minmax(0, 1fr)); } }
</style>
