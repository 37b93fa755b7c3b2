<template>
  <StateNote v-if="!of" :loading="busy" :problem="problem"><slot /></StateNote>
  <div v-else>
    <p class="words">{{ upper(of.words) }}.</p>
    <p v-for="b in of.lateness.behind" :key="b.key" class="soft small">{{ b.key }}: {{ count(b.events) }} events, half of them {{ span(b.median_seconds) }} behind or more, at most {{ span(b.most_seconds) }}.</p>
    <p v-if="of.run" class="soft small">Its run: {{ count(of.run.in) }} rows into steps, {{ count(of.run.lost) }} late and lost, {{ count(of.run.accepted) }} late and accepted.</p>
    <div v-if="of.lateness.events" class="two">
      <TideChart :dots="dots" :watermark="watermark" :bands="[]" :room="of.events" label="Event times against arrival" across="arrival in the sample" />
      <div>
        <table class="plain margins" aria-label="Margins">
          <thead><tr><th class="num">margin</th><th class="num">late</th><th class="num">of all</th><th class="num">lost</th><th class="num">results wait</th><td /></tr></thead>
          <tbody>
            <tr v-for="m in of.lateness.margins" :key="m.margin_seconds" :class="{ here: m.margin_seconds === margin }" tabindex="0" @click="choose(m.margin_seconds)" @keydown.enter="choose(m.margin_seconds)">
              <td class="num">{{ short(m.margin_seconds) }}</td>
              <td class="num">{{ count(m.late) }}</td>
              <td class="num">{{ (m.ratio * 100).toFixed(2) }} %</td>
              <td class="num">{{ m.lost === null ? '–' : count(m.lost) }}</td>
              <td class="num">{{ span(m.wait_seconds) }}</td>
              <td class="nowrap"><strong v-if="m.current">● in use</strong> <span v-if="m.margin_seconds === of.lateness.proposed_seconds">◇ proposed</span></td>
            </tr>
          </tbody>
        </table>
        <p class="soft small">Late: behind the watermark. Lost: in no window any more. The chart shows the watermark of the chosen line.</p>
        <slot name="take" :margin="short(margin)" />
      </div>
    </div>
  </div>
</template>

<script setup lang="ts">
import { computed, defineAsyncComponent, ref, watch } from 'vue'

import { count, span } from '../format'
import type { Problem, Schemas } from '../http'
import StateNote from './StateNote.vue'

const TideChart = defineAsyncComponent(() => import('./TideChart.vue'))

const props = defineProps<{
  of: Schemas['LatenessOf'] | null
  busy: boolean
  problem: Problem | null
}>()
const margin = ref(0)
watch(
  () => props.of,
  (of) => (margin.value = of?.lateness.current_seconds ?? of?.lateness.proposed_seconds ?? 0),
  { immediate: true },
)
function choose(seconds: number) {
  margin.value = seconds
}
function upper(s: string): string {
  return s.charAt(0).toUpperCase() + s.slice(1)
}
/** A duration as documents write it. */
function short(seconds: number): string {
  if (seconds === 0) return '0s'
  if (seconds % 3600 === 0) return `${seconds / 3600}h`
  if (seconds % 60 === 0) return `${seconds / 60}m`
  return Number.isInteger(seconds) ? `${seconds}s` : `${Math.round(seconds * 1000)}ms`
}
const dots = computed(() =>
  (props.of?.lateness.points ?? []).map((p) => ({ arrival: p.arrival, at: Date.parse(p.at), late: p.behind_seconds > margin.value, text: `${p.at}, ${span(p.behind_seconds)} behind` })),
)
const watermark = computed(() => {
  let most = -Infinity
  return dots.value.map((d) => {
    most = Math.max(most, d.at)
    return { arrival: d.arrival, at: most - margin.value * 1000 }
  })
})
</script>

<style scoped>
.two { display: grid; grid-template-columns: repeat(auto-fit, minmax(420px, 1fr)); gap: 18px; align-items: start; }
.words { margin: 2px 0 6px; }
.small { font-size: 12px; margin: 2px 0; }
.margins tr { cursor: pointer; }
.margins td { padding-top: 2px; padding-bottom: 2px; }
.margins tr.here td { background: var(--sea-soft); }
</style>
