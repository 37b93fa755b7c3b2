<template>
  <div class="ways">
    <section class="sheet" aria-label="From a topic">
      <header><h2>From a topic</h2><span class="soft">its fields, event time and margin are looked up from a sample</span></header>
      <StateNote v-if="!list.data.value?.items.length" :loading="list.loading.value" :problem="list.problem.value">There is no connection yet. <RouterLink to="/streams">Add one in Streams</RouterLink>, or begin from nothing.</StateNote>
      <template v-else>
      <div class="line">
        <label for="b-connection">connection</label>
        <ElSelect id="b-connection" v-model="connection" size="small"><ElOption v-for="c in list.data.value?.items ?? []" :key="c.name" :value="c.name" :label="c.name" /></ElSelect>
        <label for="b-topic">topic</label>
        <ElSelect id="b-topic" v-model="topic" size="small" filterable><ElOption v-for="t in found.data.value?.items ?? []" :key="t.name" :value="t.name" :label="`${t.name} (${count(t.events)} events)`" /></ElSelect>
      </div>
      <StateNote v-if="found.problem.value" :loading="false" :problem="found.problem.value" />
      <StateNote v-else-if="found.data.value && !found.data.value.items.length" :loading="false" :problem="null">{{ connection }} has no topics yet. Send events to one first, in Streams or by undertide send.</StateNote>
      <p class="soft">What is it for?</p>
      <StateNote v-if="!purposes.data.value" :loading="purposes.loading.value" :problem="purposes.problem.value" />
      <div class="purposes">
        <button v-for="p in purposes.data.value?.items ?? []" :key="p.name" type="button" class="purpose" :disabled="!topic || begin.busy.value" @click="from(p.name)"><strong>{{ p.name }}</strong><span>{{ p.about }}</span></button>
      </div>
      <div v-if="begin.problem.value" class="notice bad" role="alert">{{ begin.problem.value.detail }}; {{ begin.problem.value.fix }}.</div>
      </template>
    </section>
    <div class="others">
    <section class="sheet" aria-label="From nothing">
      <header><h2>From nothing</h2><span class="soft">a made-up stream and one window, to change as you like</span></header>
      <button type="button" class="purpose" @click="emit('begin', madeUp)"><strong>readings</strong><span>ten readings a second of three gauges, their mean by minute, into a folder that you name</span></button>
    </section>
    <section class="sheet" aria-label="From a job">
      <header><h2>From a job</h2><span class="soft">change it, and save the next version</span></header>
      <p v-for="j in jobs ?? []" :key="j.name" class="job"><RouterLink :to="`/build?job=${encodeURIComponent(j.name)}`">{{ j.name }}</RouterLink> <span class="soft">version {{ j.version }} · {{ j.about }}</span></p>
      <StateNote v-if="!jobs?.length" :loading="!jobs" :problem="null">There are no jobs yet.</StateNote>
    </section>
    </div>
  </div>
</template>

<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'

import { madeUp } from '../document/begin'
import { count } from '../format'
import type { ListOf } from '../http'
import { useAsked } from '../use/asked'
import { useJobs } from '../use/jobs'
import { useResource } from '../use/resource'
import { topics } from '../use/streams'
import StateNote from './StateNote.vue'

const emit = defineEmits<{ begin: [document: string] }>()
const { jobs } = useJobs()
const list = useResource<ListOf<'Connection'>>(ref('/connections'))
const purposes = useResource<ListOf<'Purpose'>>(ref('/purposes'))
const connection = ref('')
const topic = ref('')
watch(list.data, (d) => (connection.value ||= d?.items[0]?.name ?? ''))
const found = useResource<ListOf<'Topic'>>(computed(() => (connection.value ? `/connections/${encodeURIComponent(connection.value)}/topics` : '')))
const begin = useAsked((purpose: string) => topics.begin(connection.value, topic.value, purpose))
async function from(purpose: string) {
  const d = await begin.ask(purpose)
  if (d) emit('begin', d.document)
}
</script>

<style scoped>
.ways { display: grid; grid-template-columns: minmax(0, 1.4fr) minmax(0, 1fr); gap: 14px; align-items: start; }
.others { display: grid; gap: 14px; }
.line { display: grid; grid-template-columns: auto 160px auto minmax(0, 1fr); gap: 8px; align-items: center; }
.purposes { display: grid; grid-template-columns: repeat(auto-fill, minmax(220px, 1fr)); gap: 10px; }
.purpose { text-align: left; font: inherit; color: var(--ink); background: var(--ground); border: 1px solid var(--line); border-radius: 8px; padding: 8px 12px; cursor: pointer; display: grid; gap: 2px; }
.purpose:hover:enabled { border-color: var(--sea); }
.purpose:disabled { opacity: 0.6; cursor: default; }
.purpose span { color: var(--soft); font-size: 12px; }
.job { margin: 4px 0; }
</style>
