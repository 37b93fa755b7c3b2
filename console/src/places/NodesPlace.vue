<template>
  <header class="head">
    <h1>Nodes</h1>
    <span class="soft">{{ summary }}</span>
  </header>
  <div v-if="failure" class="notice bad" role="alert">{{ said(failure) }}</div>
  <StateNote v-if="!nodes?.length" :loading="loading" :problem="nodes ? null : problem">
    This service has its database alone. Several machines can share it, and the jobs: start the same program on each with
    <code class="mono">--node NAME --store PLACE --database URL</code>.
  </StateNote>
  <section v-else class="sheet scroll" aria-label="Nodes">
    <table class="plain">
      <thead>
        <tr><th>node</th><th>state</th><th class="num">jobs</th><th>carries out</th><th class="num">events/s</th><th class="num">cores</th><th class="num">memory</th><th>version</th><th>started (UTC)</th><th><span class="hidden">actions</span></th></tr>
      </thead>
      <tbody>
        <tr v-for="n in nodes" :key="n.name" :data-node="n.name">
          <td><strong>{{ n.name }}</strong><div class="soft nowrap">{{ n.address }}<template v-if="n.this"> · asked now</template></div></td>
          <td class="nowrap"><span :class="words[n.state]?.tone">{{ words[n.state]?.mark }} {{ n.state === 'away' && !n.heard_at ? 'ended' : n.state }}</span><div v-if="n.state === 'away' && n.heard_at" class="soft">heard {{ span(secondsSince(n.heard_at)) }} ago</div></td>
          <td class="num">{{ n.jobs.length }}</td>
          <td class="wide"><template v-for="(j, i) in n.jobs" :key="j">{{ i ? ', ' : '' }}<RouterLink :to="`/jobs/${encodeURIComponent(j)}`">{{ j }}</RouterLink></template></td>
          <td class="num nowrap"><span class="fill" :style="{ width: `${most > 0 ? (60 * events(n)) / most : 0}px` }" />{{ rate(events(n)) }}</td>
          <td class="num">{{ n.cores }}</td>
          <td class="num nowrap">{{ n.memory ? bytes(n.memory) : '–' }}</td>
          <td class="nowrap">{{ n.version }}</td>
          <td class="nowrap">{{ moment(n.started_at) }}</td>
          <td class="num nowrap">
            <ElButton v-if="n.state === 'away'" v-needs="'keeper'" size="small" :aria-label="`Remove ${n.name}`" @click="drop(n)">Remove</ElButton>
            <ElButton v-else-if="n.state === 'well'" v-needs="'keeper'" size="small" :aria-label="`Drain ${n.name}`" @click="drain(n)">Drain</ElButton>
            <ElButton v-else v-needs="'keeper'" size="small" :aria-label="`Let ${n.name} take jobs again`" @click="act(() => remove(`/nodes/${part(n.name)}/drain`))">Take jobs again</ElButton>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
  <p v-if="nodes?.length" class="soft">Each job, and each portion of a spread one, is carried out by one node, and any node answers for all. A node that is not heard for five seconds loses its jobs to the others, which go on from their newest checkpoints.</p>
</template>

<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, ref, shallowRef } from 'vue'

import { bytes, moment, rate, secondsSince, span } from '../format'
import { asProblem, part, post, remove, said, type Problem, type Schemas } from '../http'
import StateNote from '../parts/StateNote.vue'
import { useJobs } from '../use/jobs'
import { vNeeds } from '../use/me'
import { sure } from '../use/sure'

type Node = Schemas['Node']

const words: Record<string, { mark: string; tone: string }> = {
  well: { mark: '○', tone: '' },
  draining: { mark: '◐', tone: 'warn' },
  drained: { mark: '◌', tone: 'soft' },
  away: { mark: '▲', tone: 'bad' },
}

const { jobs, nodes, loading, problem } = useJobs()
const failure = shallowRef<Problem | null>(null)
const busy = ref(false)

const summary = computed(() => {
  const all = nodes.value ?? []
  if (!all.length) return ''
  const well = all.filter((n) => n.state === 'well').length
  return `${well} of ${all.length} well, ${all.reduce((sum, n) => sum + n.jobs.length, 0)} jobs`
})

function events(n: Node): number {
  return (jobs.value ?? []).reduce((sum, j) => {
    if (j.portions.length) return sum + j.portions.reduce((s, o) => s + (o.node === n.name ? o.in_per_second : 0), 0)
    return sum + (n.jobs.includes(j.name) ? (j.live?.in_per_second ?? 0) : 0)
  }, 0)
}
const most = computed(() => Math.max(0, ...(nodes.value ?? []).map(events)))

async function act(what: () => Promise<unknown>) {
  if (busy.value) return
  busy.value = true
  failure.value = null
  try {
    await what()
  } catch (e) {
    failure.value = asProblem(e)
  } finally {
    busy.value = false
  }
}

async function drain(n: Node) {
  if (await sure(n.jobs.length ? `The jobs of ${n.name} stop with a checkpoint and go on at other nodes: ${n.jobs.join(', ')}. It takes none until you let it again.` : `${n.name} takes no jobs until you let it again.`, 'Drain it')) await act(() => post(`/nodes/${part(n.name)}/drain`))
}

async function drop(n: Node) {
  if (await sure(`${n.name} is forgotten. Started again, it joins again.`, 'Remove it')) await act(() => remove(`/nodes/${part(n.name)}`))
}
</script>

<style scoped>
.head { display: flex; align-items: baseline; gap: 14px; margin-bottom: 14px; }
.wide { max-width: 340px; overflow-wrap: anywhere; }
.fill { display: inline-block; height: 8px; background: var(--tide); border-radius: 2px; margin-right: 6px; }
</style>
