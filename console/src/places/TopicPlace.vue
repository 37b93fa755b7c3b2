<template>
  <header class="head">
    <RouterLink :to="`/streams/${encodeURIComponent(connection)}`">{{ connection }}</RouterLink>
    <h1>{{ topic }}</h1>
    <span class="grow" />
    <ElButton v-needs="'engineer'" :loading="testing.busy.value" @click="testing.ask(connection, topic)">Test the rights</ElButton>
    <ElButton type="primary" :disabled="!peek?.inference" @click="tab = 'begin'">Begin a job from it</ElButton>
  </header>
  <section v-if="testing.data.value || testing.problem.value" class="sheet rights" aria-label="Rights">
    <CheckSteps v-if="testing.data.value" :checks="testing.data.value.checks" />
    <StateNote v-else :loading="false" :problem="testing.problem.value" />
  </section>
  <section class="sheet" aria-label="Events">
    <header>
      <h2>Look at</h2>
      <ElSelect v-model="from" size="small" style="width: 150px" aria-label="Which events">
        <ElOption value="newest" label="the newest" /><ElOption value="oldest" label="the oldest" /><ElOption value="5m" label="since 5 min ago" /><ElOption value="1h" label="since 1 h ago" /><ElOption value="24h" label="since 24 h ago" />
      </ElSelect>
      <ElSelect v-model="limit" size="small" style="width: 130px" aria-label="How many"><ElOption v-for="n in [100, 1000, 5000]" :key="n" :value="n" :label="`${count(n)} events`" /></ElSelect>
      <ElButton size="small" :loading="busy" :disabled="following" @click="again">Ask again</ElButton>
      <ElButton size="small" :type="following ? 'primary' : 'default'" @click="following = !following">{{ following ? '■ Stop following' : '▶ Follow' }}</ElButton>
      <ElButton v-needs="'engineer'" size="small" @click="sending = true">Send …</ElButton>
      <span v-if="peek?.profile" class="soft">{{ count(peek.profile.events) }} events<template v-if="peek.profile.from">, stored {{ moment(peek.profile.from) }} to {{ moment(peek.profile.to) }} UTC</template></span>
    </header>
    <div v-for="n in notes" :key="n" class="notice" role="status">{{ n }}</div>
    <ElTabs v-model="tab">
      <ElTabPane label="Events" name="events"><EventList :events="shown" :loading="busy" :problem="problem" :following="following" /></ElTabPane>
      <ElTabPane label="Profile" name="profile"><ProfileTable v-if="peek?.profile" :profile="peek.profile" /><StateNote v-else :loading="busy" :problem="problem">No events to profile.</StateNote></ElTabPane>
      <ElTabPane label="Fields and event time" name="fields"><InferredFields v-if="peek?.inference" :inference="peek.inference" /><StateNote v-else :loading="busy" :problem="problem">No events to describe.</StateNote></ElTabPane>
      <ElTabPane label="Lateness" name="lateness">
        <LatenessPanel :of="lateness" :busy="busy" :problem="problem">No events with a time.</LatenessPanel>
      </ElTabPane>
      <ElTabPane label="Begin a job" name="begin">
        <p class="soft">A document with these fields, event time and margin, ready to be changed. What is it for?</p>
        <div class="purposes">
          <button v-for="p in purposes.data.value?.items ?? []" :key="p.name" type="button" class="purpose" @click="begin(p.name)"><strong>{{ p.name }}</strong><span>{{ p.about }}</span></button>
        </div>
        <p class="keep">
          <ElInput v-model="keepAs" size="small" style="width: 180px" placeholder="name" aria-label="Name of the described source" />
          <ElButton v-needs="'engineer'" size="small" :disabled="!keepAs || !peek?.inference" @click="keep">Keep as a described source</ElButton>
          <span v-if="said" class="soft">{{ said }}</span>
        </p>
        <div v-if="failure" class="notice bad" role="alert">{{ failure.detail }}; {{ failure.fix }}.</div>
      </ElTabPane>
    </ElTabs>
  </section>
  <SendDialog v-if="sending" :connection="connection" :topic="topic" :like="peek?.events.at(-1)?.text ?? ''" @close="sending = false" />
</template>

<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect, ElTabPane, ElTabs } from 'element-plus'
import { computed, ref, shallowRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import { count, moment } from '../format'
import { asProblem, type Problem, type ListOf, type Schemas } from '../http'
import CheckSteps from '../parts/CheckSteps.vue'
import EventList from '../parts/EventList.vue'
import InferredFields from '../parts/InferredFields.vue'
import LatenessPanel from '../parts/LatenessPanel.vue'
import ProfileTable from '../parts/ProfileTable.vue'
import SendDialog from '../parts/SendDialog.vue'
import StateNote from '../parts/StateNote.vue'
import { useAsked } from '../use/asked'
import { useDraft } from '../use/draft'
import { vNeeds } from '../use/me'
import { useResource } from '../use/resource'
import { useStream } from '../use/stream'
import { connections, describedSources, topics, type Peek } from '../use/streams'

const props = defineProps<{ connection: string; topic: string }>()
const router = useRouter()
const draft = useDraft()

const testing = useAsked((c: string, t: string) => connections.test(c, t))
const sending = ref(false)
const from = ref('newest')
const limit = ref(1000)
const tab = ref('events')
const { data: peek, busy, problem, ask } = useAsked((c: string, t: string, f: string, n: number) => topics.peek(c, t, f, n))
function again() {
  return ask(props.connection, props.topic, from.value, limit.value)
}
watch([() => props.connection, () => props.topic, from, limit], () => void again(), { immediate: true })

const following = ref(false)
const live = shallowRef<Schemas['RawEvent'][]>([])
const said = ref('')
const quiet = ref('')
useStream('/connections/{connection}/topics/{topic}/events', computed(() => (following.value ? topics.events(props.connection, props.topic, 'newest', 1) : '')), {
  event: (data) => {
    quiet.value = ''
    live.value = [data, ...live.value].slice(0, 500)
  },
  note: (data) => (quiet.value = data),
})
watch(following, (on) => {
  if (on) tab.value = 'events'
  live.value = []
  quiet.value = ''
})
const shown = computed(() => (following.value ? live.value : newestFirst(peek.value)))
function newestFirst(p: Peek | null): Schemas['RawEvent'][] {
  const all = p?.events ?? []
  return from.value === 'newest' ? [...all].reverse() : all
}
const notes = computed(() => [...(peek.value?.notes ?? []), ...(quiet.value ? [quiet.value] : [])])

const lateness = computed<Schemas['LatenessOf'] | null>(() => {
  const i = peek.value?.inference
  if (!i) return null
  const l = i.lateness
  return { source: props.topic, events: l.events, words: sentence(i), lateness: l, sources: [], run: null }
})
function sentence(i: Schemas['Inference']): string {
  const l = i.lateness
  if (!l.events) return 'No event of the sample has an event time'
  if (!l.out_of_order) return `${count(l.events)} events by ${i.event_time}, all in order`
  return `By ${i.event_time}, ${count(l.out_of_order)} of ${count(l.events)} events came out of order, the latest by ${l.most_seconds.toFixed(1)} s; a margin of ${l.proposed_seconds} s is proposed`
}

const purposes = useResource<ListOf<'Purpose'>>(ref('/purposes'))
const failure = shallowRef<Problem | null>(null)
async function begin(purpose: string) {
  failure.value = null
  try {
    const d = await topics.begin(props.connection, props.topic, purpose)
    if (await draft.begin(d.document)) await router.push('/build')
  } catch (e) {
    failure.value = asProblem(e)
  }
}
const keepAs = ref('')
async function keep() {
  failure.value = null
  said.value = ''
  try {
    const d = await topics.begin(props.connection, props.topic, 'source')
    await describedSources.put(keepAs.value.trim(), { about: `Topic ${props.topic}`, text: d.document })
    said.value = `Kept as ${keepAs.value}; Build offers it under “add source”.`
  } catch (e) {
    failure.value = asProblem(e)
  }
}
</script>

<style scoped>
.head { display: flex; align-items: center; gap: 12px; margin-bottom: 14px; }
.rights { margin-bottom: 14px; }
.purposes { display: grid; grid-template-columns: repeat(auto-fill, minmax(240px, 1fr)); gap: 10px; }
.purpose { text-align: left; font: inherit; color: var(--ink); background: var(--ground); border: 1px solid var(--line); border-radius: 8px; padding: 8px 12px; cursor: pointer; display: grid; gap: 2px; }
.purpose:hover { border-color: var(--sea); }
.purpose span { color: var(--soft); font-size: 12px; }
.keep { display: flex; gap: 8px; align-items: center; margin-top: 14px; }
</style>
