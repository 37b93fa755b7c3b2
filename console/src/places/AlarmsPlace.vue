<template>
  <header class="head">
    <h1>Alarms</h1>
    <span class="soft">{{ summary }}</span>
    <span class="grow" />
    <ElSwitch v-model="all" active-text="those of the past too" aria-label="Those of the past too" />
  </header>
  <div v-if="failure" class="notice bad" role="alert">{{ failure.detail }}; {{ failure.fix }}.</div>
  <StateNote v-if="!list.length" :loading="alarms.loading.value" :problem="alarms.problem.value">
    {{ all ? 'No alarm was on yet.' : 'No alarm is on.' }} Below are the conditions that every job is watched by.
  </StateNote>
  <div v-else class="sheet scroll">
    <table class="plain">
      <thead><tr><th>job</th><th>alarm</th><th>state</th><th>since (UTC)</th><th class="num">for</th><th>about</th><th>seen by</th><th><span class="hidden">actions</span></th></tr></thead>
      <tbody>
        <tr v-for="a in list" :key="a.id">
          <td><RouterLink :to="`/jobs/${part(a.job)}`">{{ a.job }}</RouterLink></td>
          <td>{{ a.name }}</td>
          <td class="nowrap"><span :class="a.off_at ? 'soft' : 'bad'">{{ a.off_at ? '○ off' : '▲ on' }}</span></td>
          <td class="nowrap" :title="a.on_at">{{ moment(a.on_at) }}</td>
          <td class="num nowrap">{{ span(((a.off_at ? Date.parse(a.off_at) : now) - Date.parse(a.on_at)) / 1000) }}</td>
          <td>{{ a.text }}</td>
          <td class="nowrap">{{ a.seen_at ? `${a.seen_by || 'somebody'}, ${moment(a.seen_at)}` : '' }}</td>
          <td class="num"><ElButton v-if="!a.seen_at" v-needs="'engineer'" size="small" :aria-label="`Say that alarm ${a.name} of ${a.job} was seen`" @click="seeing = a">Seen</ElButton></td>
        </tr>
      </tbody>
    </table>
  </div>
  <section class="sheet rules scroll" aria-label="Conditions">
    <header>
      <h2>Conditions</h2>
      <span class="soft">of all jobs; a document may change them for its own</span>
      <span class="grow" />
      <ElButton v-needs="'keeper'" size="small" @click="edit({ name: '', when: '', for: '1m', about: '', off: false, notify: [], usual: false, changed: false })">Add</ElButton>
    </header>
    <StateNote v-if="!rules.data.value" :loading="rules.loading.value" :problem="rules.problem.value" />
    <table v-else class="plain">
      <thead><tr><th>alarm</th><th>state</th><th>when</th><th class="num">for</th><th>about</th><th><span class="hidden">actions</span></th></tr></thead>
      <tbody>
        <tr v-for="r in rules.data.value.items" :key="r.name">
          <td>{{ r.name }}</td>
          <td class="nowrap soft">{{ r.off ? 'off' : r.changed ? (r.usual ? 'changed' : 'added') : 'as usual' }}</td>
          <td class="mono" :class="{ soft: r.off }">{{ r.when }}</td>
          <td class="num nowrap">{{ r.for }}</td>
          <td>{{ r.about }}</td>
          <td class="num nowrap">
            <ElButton v-needs="'keeper'" size="small" :aria-label="`Change ${r.name}`" @click="edit(r)">Change</ElButton>
            <ElButton v-if="r.changed" v-needs="'keeper'" size="small" :aria-label="r.usual ? `Make ${r.name} as usual` : `Remove ${r.name}`" @click="act(() => remove(`/rules/${part(r.name)}`))">{{ r.usual ? 'As usual' : 'Remove' }}</ElButton>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
  <section class="sheet rules scroll" aria-label="Notices">
    <header>
      <h2>Notices</h2>
      <span class="soft">who is told</span>
      <span class="grow" />
      <ElButton v-needs="'keeper'" size="small" @click="editNotice({ name: '', text: example, everything: true })">Add a notice</ElButton>
    </header>
    <StateNote v-if="!notices.data.value?.items.length" :loading="notices.loading.value" :problem="notices.problem.value">Nobody is told yet. Add a notice: a mail, or a post to a program.</StateNote>
    <table v-else class="plain">
      <thead><tr><th>notice</th><th>tells of</th><th class="num">told</th><th>last</th><th class="num">waiting</th><th>trouble</th><th><span class="hidden">actions</span></th></tr></thead>
      <tbody>
        <tr v-for="n in notices.data.value.items" :key="n.name">
          <td>{{ n.name }}</td>
          <td>{{ n.everything ? 'every alarm' : 'alarms that name it' }}</td>
          <td class="num">{{ n.told }}</td>
          <td class="nowrap">{{ n.last_at ? moment(n.last_at) : 'never' }}</td>
          <td class="num">{{ n.waiting }}</td>
          <td class="warn">{{ n.trouble }}</td>
          <td class="num nowrap">
            <ElButton v-needs="'keeper'" size="small" :loading="trying === n.name" :aria-label="`Try ${n.name}`" @click="tryNotice(n.name)">Try</ElButton>
            <ElButton v-needs="'keeper'" size="small" :aria-label="`Change notice ${n.name}`" @click="editNotice(n)">Change</ElButton>
            <ElButton v-needs="'keeper'" size="small" :aria-label="`Remove notice ${n.name}`" @click="removeNotice(n.name)">Remove</ElButton>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="tried" class="soft" role="status">{{ tried }}</p>
  </section>
  <ElDialog v-if="noticing" :model-value="true" :title="freshNotice ? 'Another notice' : `Notice ${noticing.name}`" width="620px" @close="noticing = null">
    <div v-if="freshNotice" class="field"><label for="notice-name">Name</label><ElInput id="notice-name" v-model="noticing.name" /></div>
    <div class="field"><label for="notice-text">Text</label><ElInput id="notice-text" v-model="noticing.text" type="textarea" :rows="9" class="mono" /></div>
    <p class="soft">A sink of kind mail or http as it stands in a document; its rows have the fields job, alarm, state, about and at.</p>
    <ElSwitch v-model="noticing.everything" active-text="told of every alarm" aria-label="Told of every alarm" />
    <div v-if="failure" class="notice bad" role="alert">{{ failure.detail }}; {{ failure.fix }}.</div>
    <template #footer><ElButton type="primary" @click="saveNotice">Save notice</ElButton></template>
  </ElDialog>
  <ElDialog v-if="seeing" :model-value="true" :title="`Alarm ${seeing.name} of ${seeing.job}`" width="440px" @close="seeing = null">
    <p>{{ seeing.text }}</p>
    <div v-if="!me.me.value?.name" class="field"><label for="alarm-seen-by">Seen by</label><ElInput id="alarm-seen-by" v-model="by" placeholder="your name" /></div>
    <template #footer><ElButton type="primary" @click="see">I have seen it</ElButton></template>
  </ElDialog>
  <ElDialog v-if="editing" :model-value="true" :title="fresh ? 'Another alarm of all jobs' : `Alarm ${editing.name} of all jobs`" width="560px" @close="editing = null">
    <div v-if="fresh" class="field"><label for="alarm-name">Name</label><ElInput id="alarm-name" v-model="editing.name" /></div>
    <div class="field"><label for="alarm-when">When</label><ElInput id="alarm-when" v-model="editing.when" class="mono" placeholder="lag_seconds > 60" /></div>
    <div class="field"><label for="alarm-for">For</label><ElInput id="alarm-for" v-model="editing.for" placeholder="5m" /></div>
    <div class="field"><label for="alarm-about">About</label><ElInput id="alarm-about" v-model="editing.about" /></div>
    <div class="field"><label for="alarm-told">Told by</label><ElInput id="alarm-told" v-model="told" placeholder="names of notices, with commas between" /></div>
    <ElSwitch v-if="!fresh" v-model="editing.off" active-text="switched off" aria-label="Switched off" />
    <div v-if="failure" class="notice bad" role="alert">{{ failure.detail }}; {{ failure.fix }}.</div>
    <template #footer><ElButton type="primary" @click="save">Save</ElButton></template>
  </ElDialog>
</template>

<script setup lang="ts">
import { ElButton, ElDialog, ElInput, ElSwitch } from 'element-plus'
import { computed, onScopeDispose, ref, shallowRef } from 'vue'

import { moment, span } from '../format'
import { asProblem, part, post, put, remove, type Problem, type Schemas } from '../http'
import StateNote from '../parts/StateNote.vue'
import { useMe, vNeeds } from '../use/me'
import { useResource } from '../use/resource'
import { sure } from '../use/sure'

const me = useMe()
type Alarm = Schemas['Alarm']
type Rule = Schemas['Rule']

const all = ref(false)
const alarms = useResource<{ items: Alarm[] }>(computed(() => `/alarms?limit=200${all.value ? '' : '&on=true'}`), 2000)
const rules = useResource<{ items: Rule[] }>(ref('/rules'))
const list = computed(() => alarms.data.value?.items ?? [])
const summary = computed(() => {
  const on = list.value.filter((a) => !a.off_at)
  const unseen = on.filter((a) => !a.seen_at).length
  return on.length ? `${on.length} on, ${unseen} not seen by anybody` : ''
})
const now = ref(Date.now())
const timer = setInterval(() => (now.value = Date.now()), 1000)
onScopeDispose(() => clearInterval(timer))

const failure = shallowRef<Problem | null>(null)
async function act(what: () => Promise<unknown>): Promise<boolean> {
  failure.value = null
  try {
    await what()
    await Promise.all([alarms.refresh(), rules.refresh()])
    return true
  } catch (e) {
    failure.value = asProblem(e)
    return false
  }
}

const notices = useResource<{ items: Schemas['Notice'][] }>(ref('/notices'), 3000)
const example = 'via: mail\nwith:\n  connection: post\n  to: [keeper@example.org]\n  subject: "{alarm} of {job} is {state}"\n  template: "{about}, at {at:%H:%M:%S}"\n'
const noticing = ref<{ name: string; text: string; everything: boolean } | null>(null)
const freshNotice = ref(false)
function editNotice(n: { name: string; text: string; everything: boolean }) {
  failure.value = null
  freshNotice.value = n.name === ''
  noticing.value = { name: n.name, text: n.text, everything: n.everything }
}
async function saveNotice() {
  const n = noticing.value
  if (n && (await act(() => put(`/notices/${part(n.name)}`, { text: n.text, everything: n.everything })))) {
    noticing.value = null
    await notices.refresh()
  }
}
async function removeNotice(name: string) {
  if (await sure(`Notice ${name} is removed, with what it was still to tell.`, 'Remove')) {
    await act(() => remove(`/notices/${part(name)}`))
    await notices.refresh()
  }
}
const trying = ref('')
const tried = ref('')
async function tryNotice(name: string) {
  trying.value = name
  tried.value = ''
  if (await act(() => post(`/notices/${part(name)}/try`))) tried.value = `Notice ${name} was taken.`
  trying.value = ''
}

const seeing = ref<Alarm | null>(null)
const by = ref('')
async function see() {
  const a = seeing.value
  if (a && (await act(() => post(`/alarms/${a.id}/seen`, { by: by.value })))) seeing.value = null
}

const editing = ref<Rule | null>(null)
const fresh = ref(false)
const told = ref('')
function edit(r: Rule) {
  failure.value = null
  fresh.value = r.name === ''
  editing.value = { ...r }
  told.value = r.notify.join(', ')
}
async function save() {
  const r = editing.value
  if (r && (await act(() => put(`/rules/${part(r.name)}`, { when: r.when, for: r.for, about: r.about, off: r.off, notify: told.value.split(/[\s,]+/).filter(Boolean) })))) editing.value = null
}
</script>

<style scoped>
.head { display: flex; align-items: baseline; gap: 14px; margin-bottom: 14px; }
.grow { flex: 1; }
.rules { margin-top: 14px; }
.field { margin-bottom: 10px; font-size: 12px; }
</style>
