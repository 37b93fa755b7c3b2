<template>
  <section class="sheet scroll" aria-label="Portions">
    <header>
      <h2>Portions</h2>
      <span class="soft">{{ summary }}</span>
      <form v-if="goesOn(job.status)" class="number" @submit.prevent="emit('respread', wanted)">
        <label for="portions-wanted">portions of each part</label>
        <ElInputNumber id="portions-wanted" v-model="wanted" :min="2" :max="64" :step-strictly="true" size="small" />
        <ElButton v-needs="'engineer'" native-type="submit" size="small" :loading="busy" :disabled="wanted === each || job.status !== 'running'">Divide anew</ElButton>
      </form>
    </header>
    <table class="plain">
      <thead>
        <tr><th>portion</th><th>node</th><th>state</th><th class="num">rows in/s</th><th class="num">rows out/s</th><th class="num">wait</th><th>watermark (UTC)</th><th class="num">keys</th><th class="num">state</th></tr>
      </thead>
      <tbody v-for="p in parts" :key="p.number">
        <tr class="part"><th colspan="9" scope="rowgroup">Part {{ p.number }}<span v-if="p.does" class="soft"> · {{ p.does }}</span></th></tr>
        <tr v-for="o in p.portions" :key="o.name" :data-portion="o.name">
          <td class="nowrap"><RouterLink :to="`/jobs/${encodeURIComponent(o.name)}`">{{ o.part }}-{{ o.number }}</RouterLink></td>
          <td class="nowrap"><RouterLink v-if="o.node" to="/nodes">{{ o.node }}</RouterLink><template v-else>–</template></td>
          <td class="nowrap"><StatusWord :status="o.status" /></td>
          <td class="num nowrap"><span class="fill" :style="{ width: `${p.most > 0 ? (60 * o.in_per_second) / p.most : 0}px` }" />{{ rate(o.in_per_second) }}</td>
          <td class="num nowrap">{{ rate(o.out_per_second) }}</td>
          <td class="num">{{ o.lag_events === null ? '–' : count(o.lag_events) }}</td>
          <td class="nowrap">{{ o.watermark === 'end' ? 'end' : o.watermark ? moment(o.watermark) : '–' }}</td>
          <td class="num">{{ count(o.keys) }}</td>
          <td class="num nowrap">{{ bytes(o.state_bytes) }}</td>
        </tr>
      </tbody>
      <tbody v-if="nodes.length > 1">
        <tr class="part"><th colspan="9" scope="rowgroup">By node<span class="soft"> · what the portions on each have together; the watermark is the least</span></th></tr>
        <tr v-for="n in nodes" :key="n.name" :data-node="n.name">
          <td class="nowrap">{{ n.portions.length }} of {{ job.portions.length }}</td>
          <td class="nowrap"><RouterLink to="/nodes">{{ n.name }}</RouterLink></td>
          <td />
          <td class="num nowrap"><span class="fill" :style="{ width: `${most > 0 ? (60 * n.in) / most : 0}px` }" />{{ rate(n.in) }}</td>
          <td class="num nowrap">{{ rate(n.out) }}</td>
          <td class="num">{{ n.wait === null ? '–' : count(n.wait) }}</td>
          <td class="nowrap">{{ n.watermark ? moment(n.watermark) : '–' }}</td>
          <td class="num">{{ count(n.keys) }}</td>
          <td class="num nowrap">{{ bytes(n.state) }}</td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<script setup lang="ts">
import { ElButton, ElInputNumber } from 'element-plus'
import { computed, ref, watch } from 'vue'

import { bytes, count, moment, rate } from '../format'
import type { Schemas } from '../http'
import { goesOn, type Job } from '../use/jobs'
import { vNeeds } from '../use/me'
import StatusWord from './StatusWord.vue'

type Portion = Schemas['Portion']

// The portions of a spread job, part by part, in the order in which rows go through them. The bars show how evenly a part's rows fall on its portions, and all rows on the nodes.
const props = defineProps<{
  job: Job
  /** Null until it is known. */
  plan: Schemas['Plan'] | null
  /** Whether something is being done to the job. */
  busy: boolean
}>()
const emit = defineEmits<{ respread: [portions: number] }>()

// How many portions each part has, and how many are wanted: as many until somebody says so.
const each = computed(() => props.job.portions.filter((o) => o.part === 1).length)
const wanted = ref(each.value)
watch(each, (n) => (wanted.value = n))

const parts = computed(() => {
  const numbers = [...new Set(props.job.portions.map((o) => o.part))].sort((a, b) => a - b)
  return numbers.map((number) => {
    const portions = props.job.portions.filter((o) => o.part === number)
    const planned = props.plan?.spread?.parts[number - 1]
    const crosses = (planned?.crosses ?? []).map((c) => `${c.rows} by ${c.by.join(', ') || 'nothing'}`)
    const steps = planned?.steps.join(', ') || (number === 1 ? 'the sources' : '')
    return { number, portions, most: Math.max(...portions.map((o) => o.in_per_second)), does: [steps, crosses.length ? `reads ${crosses.join('; ')}` : ''].filter(Boolean).join(' · ') }
  })
})

// How evenly the work falls on the nodes.
const nodes = computed(() => {
  const names = [...new Set(props.job.portions.map((o) => o.node).filter(Boolean))].sort()
  return names.map((name) => {
    const portions = props.job.portions.filter((o) => o.node === name)
    const sum = (of: (o: Portion) => number) => portions.reduce((all, o) => all + of(o), 0)
    const waits = portions.map((o) => o.lag_events).filter((n) => n !== null)
    const marks = portions.map((o) => o.watermark).filter((w) => w && w !== 'end').sort()
    return { name, portions, in: sum((o) => o.in_per_second), out: sum((o) => o.out_per_second), wait: waits.length ? waits.reduce((all, n) => all + n, 0) : null, watermark: marks[0] ?? '', keys: sum((o) => o.keys), state: sum((o) => o.state_bytes) }
  })
})
const most = computed(() => Math.max(0, ...nodes.value.map((n) => n.in)))

const summary = computed(() => {
  const nodes = new Set(props.job.portions.map((o) => o.node).filter(Boolean))
  return `${props.job.portions.length} runs on ${nodes.size} node${nodes.size === 1 ? '' : 's'}; rows cross from part to part by topics of the job's own`
})
</script>

<style scoped>
.sheet { margin-top: 14px; }
.number { display: flex; align-items: center; gap: 8px; margin-left: auto; }
.number label { color: var(--soft); font-size: 12.5px; white-space: nowrap; }
.part th { text-align: left; padding-top: 10px; font-weight: 600; }
.part .soft { font-weight: 400; }
.fill { display: inline-block; height: 8px; margin-right: 6px; background: var(--tide); border-radius: 2px; vertical-align: middle; }
</style>
