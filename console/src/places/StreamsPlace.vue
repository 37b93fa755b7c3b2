<template>
  <header class="head">
    <h1>Streams</h1>
    <span class="soft">what is there, what an event looks like, how late events come</span>
  </header>
  <section class="sheet" aria-label="Connections">
    <header>
      <h2>Connections</h2>
      <span class="soft">named ways to reach brokers, databases, stores and people; passwords are sealed and never shown</span>
      <span class="grow" />
      <ElButton v-needs="'keeper'" size="small" @click="edit(null)">Add a connection</ElButton>
    </header>
    <StateNote v-if="!list.data.value?.items.length" :loading="list.loading.value" :problem="list.problem.value">There is no connection yet. Add one to see the topics of a broker.</StateNote>
    <table v-else class="plain">
      <thead><tr><th>name</th><th>via</th><th>reaches</th><th>way</th><th>sign-in</th><th>tested</th><td /></tr></thead>
      <tbody>
        <template v-for="c in list.data.value.items" :key="c.name">
          <tr :class="{ here: c.name === connection }">
            <td class="nowrap"><RouterLink :to="`/streams/${encodeURIComponent(c.name)}`">{{ c.name }}</RouterLink></td>
            <td>{{ c.via }}</td>
            <td>{{ c.reaches }}</td>
            <td>{{ c.way }}</td>
            <td>{{ c.sign_in }}</td>
            <td><span v-if="tried[c.name]" :class="{ bad: failed(tried[c.name]!) }">{{ failed(tried[c.name]!) ? `✕ not ${failed(tried[c.name]!)}` : `✓ ${tried[c.name]!.filter((k) => k.state === 'yes').map((k) => k.name).join(', ')}` }}</span><span v-else class="soft">not yet</span></td>
            <td class="nowrap acts">
              <ElButton size="small" text @click="tryIt(c.name)">Test</ElButton>
              <ElButton v-if="c.from === 'service'" v-needs="'keeper'" size="small" text @click="edit(c)">Change</ElButton>
              <ElButton v-if="c.from === 'service'" v-needs="'keeper'" size="small" text @click="drop(c.name)">Remove</ElButton>
              <span v-else class="soft">from undertide.yaml</span>
            </td>
          </tr>
          <tr v-if="tried[c.name]">
            <td colspan="7"><CheckSteps :checks="tried[c.name]!" /></td>
          </tr>
        </template>
      </tbody>
    </table>
    <div v-if="failure" class="notice bad" role="alert">{{ failure.detail }}; {{ failure.fix }}.</div>
  </section>
  <section v-if="connection && kind && !lists" class="sheet gap" aria-label="Connection">
    <header><h2>{{ connection }}</h2><span class="soft">{{ kind?.about }}</span></header>
    <StateNote :loading="false" :problem="null">It lists nothing: documents name what they reach, <code class="mono">via: {{ via }}</code> and <code class="mono">connection: {{ connection }}</code>. Test says whether it is reached; <code class="mono">undertide check --connect</code> tries what a job reads and writes.</StateNote>
  </section>
  <section v-else-if="connection && kind" class="sheet gap" aria-label="Topics">
    <header>
      <h2>Topics of {{ connection }}</h2>
      <span class="soft">choose one to look at its events</span>
      <span class="grow" />
      <ElInput v-model="filter" size="small" placeholder="find a topic" aria-label="Find a topic" style="width: 180px" clearable />
      <ElButton size="small" @click="topics.refresh()">Ask again</ElButton>
    </header>
    <StateNote v-if="!topics.data.value?.items.length" :loading="topics.loading.value" :problem="topics.problem.value">The broker has no topics yet. Send events to one, or let a job's sink make it with <code class="mono">create: true</code>.</StateNote>
    <table v-else class="plain">
      <thead><tr><th>topic</th><th class="num">partitions</th><th class="num">events</th><th class="num">size</th><th>kept for</th><th>newest stored (UTC)</th><th>read by</th><th>written by</th></tr></thead>
      <tbody>
        <tr v-for="t in found" :key="t.name">
          <td class="nowrap"><RouterLink :to="`/streams/${encodeURIComponent(connection)}/${encodeURIComponent(t.name)}`">{{ t.name }}</RouterLink></td>
          <td class="num">{{ t.partitions }}</td>
          <td class="num">{{ count(t.events) }}</td>
          <td class="num">{{ t.bytes === null ? '?' : bytes(t.bytes) }}</td>
          <td>{{ t.compacted ? 'newest of each key' : t.retention_seconds === null ? '?' : t.retention_seconds === 0 ? 'ever' : span(t.retention_seconds) }}</td>
          <td class="nowrap" :title="t.newest ?? ''">{{ t.newest ? `${moment(t.newest)}, ${span(secondsSince(t.newest))} ago` : 'none' }}</td>
          <td>{{ t.readers.join(', ') || '–' }}</td>
          <td>{{ t.writers.join(', ') || '–' }}</td>
        </tr>
      </tbody>
    </table>
  </section>
  <SchemaList v-if="connection && registry" :key="connection" class="gap" :connection="connection" />
  <div class="pair gap">
    <section class="sheet" aria-label="Described sources">
      <header><h2>Described sources</h2><span class="soft">jobs take them over</span></header>
      <StateNote v-if="!described.data.value?.items.length" :loading="described.loading.value" :problem="described.problem.value">None yet. Look at a topic and keep its description.</StateNote>
      <table v-else class="plain">
        <thead><tr><th>name</th><th>about</th><th>read by</th><td /></tr></thead>
        <tbody>
          <tr v-for="d in described.data.value.items" :key="d.name">
            <td class="nowrap">{{ d.name }}</td><td>{{ d.about }}</td>
            <td>{{ d.jobs.map(readerOf).join(', ') || '–' }}</td>
            <td class="acts"><ElButton v-needs="'engineer'" size="small" text @click="dropDescribed(d.name)">Remove</ElButton></td>
          </tr>
        </tbody>
      </table>
    </section>
    <section class="sheet" aria-label="Secrets">
      <header><h2>Secrets</h2><span class="soft">sealed; named as ${secret.NAME}</span></header>
      <StateNote v-if="!secretList.data.value?.items.length" :loading="secretList.loading.value" :problem="secretList.problem.value">None yet. A connection that signs in stores its password here.</StateNote>
      <table v-else class="plain">
        <thead><tr><th>name</th><th>stored (UTC)</th><th>state</th><th>used by</th><th>sent to</th><td /></tr></thead>
        <tbody>
          <tr v-for="s in secretList.data.value.items" :key="s.name">
            <td>{{ s.name }}</td><td class="nowrap">{{ moment(s.updated_at) }}</td><td>{{ s.readable ? 'sealed' : '✕ store it again' }}</td><td>{{ [...s.used_by, ...s.jobs.map((j) => `job ${j}`)].join(', ') || '–' }}</td><td>{{ s.for.join(', ') || 'its first use' }}</td>
            <td class="acts"><ElButton v-needs="'keeper'" size="small" text @click="dropSecret(s.name)">Remove</ElButton></td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
  <ConnectionForm v-if="editing" :connection="editing.connection" @close="editing = null" @stored="stored" />
</template>

<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, reactive, ref, shallowRef } from 'vue'

import { bytes, count, moment, secondsSince, span } from '../format'
import { asProblem, type Problem, type ListOf, type Schemas } from '../http'
import CheckSteps from '../parts/CheckSteps.vue'
import ConnectionForm from '../parts/ConnectionForm.vue'
import SchemaList from '../parts/SchemaList.vue'
import StateNote from '../parts/StateNote.vue'
import { vNeeds } from '../use/me'
import { sure } from '../use/sure'
import { useResource } from '../use/resource'
import { connector, loadKinds } from '../use/kinds'
import { connections, describedSources, secrets, type Connection } from '../use/streams'

const props = defineProps<{
  /** The connection whose topics are shown, from the address; empty for the first. */
  connection?: string
}>()

void loadKinds()
const list = useResource<ListOf<'Connection'>>(ref('/connections'))
const described = useResource<ListOf<'Described'>>(ref('/sources'))
const secretList = useResource<ListOf<'Secret'>>(ref('/secrets'))
const connection = computed(() => {
  const all = list.data.value?.items ?? []
  return props.connection ?? (all.find((c) => connector(c.via)?.lists) ?? all[0])?.name ?? ''
})
const shown = computed(() => list.data.value?.items.find((c) => c.name === connection.value))
const via = computed(() => shown.value?.via ?? '')
const registry = computed(() => shown.value?.registry ?? false)
const kind = computed(() => connector(via.value))
/** Whether it says what there is. */
const lists = computed(() => kind.value?.lists ?? false)
const topics = useResource<ListOf<'Topic'>>(computed(() => (connection.value && lists.value ? `/connections/${encodeURIComponent(connection.value)}/topics` : '')), 10_000)
const filter = ref('')
const found = computed(() => (topics.data.value?.items ?? []).filter((t) => t.name.includes(filter.value.trim())))

const tried = reactive<Record<string, Schemas['Check'][]>>({})
const failure = shallowRef<Problem | null>(null)
const editing = shallowRef<{ connection: Connection | null } | null>(null)

function failed(checks: Schemas['Check'][]): string {
  return checks.find((c) => c.state === 'no')?.name ?? ''
}
async function act(what: () => Promise<unknown>) {
  failure.value = null
  try {
    await what()
  } catch (e) {
    failure.value = asProblem(e)
  }
}
function tryIt(name: string) {
  return act(async () => {
    tried[name] = (await connections.test(name)).checks
  })
}
function edit(c: Connection | null) {
  editing.value = { connection: c }
}
async function stored(name: string) {
  editing.value = null
  await Promise.all([list.refresh(), secretList.refresh()])
  await tryIt(name)
}
async function drop(name: string) {
  if (!(await sure(`Remove the connection ${name}? Its settings are gone then; jobs that name it cannot start.`, 'Remove'))) return
  return act(async () => {
    await connections.remove(name)
    await list.refresh()
  })
}
async function dropSecret(name: string) {
  if (!(await sure(`Remove the secret ${name}? Nobody can read it again; it would have to be entered anew.`, 'Remove'))) return
  return act(async () => {
    await secrets.remove(name)
    await secretList.refresh()
  })
}
/** A job that reads what is described, and what it says otherwise. */
function readerOf(j: Schemas['DescribedUse']): string {
  if (j.differs.length) return `${j.job} (with another ${j.differs.join(', ')})`
  return j.same ? j.job : `${j.job} (in other words)`
}
async function dropDescribed(name: string) {
  if (!(await sure(`Remove the described source ${name}? Jobs keep their own text.`, 'Remove'))) return
  return act(async () => {
    await describedSources.remove(name)
    await described.refresh()
  })
}
</script>

<style scoped>
.head { display: flex; align-items: baseline; gap: 14px; margin-bottom: 14px; }
.gap { margin-top: 14px; }
.pair { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 14px; align-items: start; }
tr.here td { background: var(--sea-soft); }
.acts { text-align: right; }
</style>
