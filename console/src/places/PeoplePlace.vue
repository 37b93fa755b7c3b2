<template>
  <header class="head">
    <h1>People</h1>
    <span class="soft">{{ summary }}</span>
  </header>
  <div v-if="failure" class="notice bad" role="alert">{{ said(failure) }}</div>
  <div v-if="made" class="notice" role="status">
    {{ made.who }}
    <code class="once" data-test="once">{{ made.text }}</code>
    <ElButton size="small" @click="copy(made.text)">{{ copied ? 'Copied' : 'Copy' }}</ElButton>
    <ElButton size="small" text @click="made = null">Done</ElButton>
  </div>
  <section v-if="!who?.asks" class="sheet part" aria-label="Nobody signs in">
    <p>Nobody has to sign in: whoever is on this machine may do everything here. Add a first person, who is a keeper, and whoever asks has to sign in from then on; the next page is where they choose a password.</p>
  </section>
  <section v-else-if="who.name" class="sheet part" aria-label="You">
    <header>
      <h2>You</h2><span>{{ who.name }}, {{ who.role }}</span><span class="grow" />
      <ElButton size="small" @click="choosing = true">Choose another password</ElButton>
      <ElButton size="small" @click="me.signOut()">Sign out</ElButton>
    </header>
    <p class="soft">{{ mayText }}</p>
  </section>
  <section v-if="keeps" class="sheet part scroll" aria-label="Who may sign in">
    <header><h2>Who may sign in</h2><span class="grow" /><ElButton size="small" @click="adding = { name: '', role: who?.asks ? 'reader' : 'keeper', email: '' }">Add somebody</ElButton></header>
    <StateNote v-if="!people.data.value?.items.length" :loading="people.loading.value" :problem="people.problem.value">There are no people yet.</StateNote>
    <table v-else class="plain">
      <thead><tr><th>person</th><th>role</th><th>mail</th><th>added (UTC)</th><th>was here (UTC)</th><th>owns</th><th><span class="hidden">actions</span></th></tr></thead>
      <tbody>
        <tr v-for="p in people.data.value.items" :key="p.name">
          <td>{{ p.name }}</td>
          <td>
            <ElSelect :model-value="p.role" size="small" class="role" :aria-label="`Role of ${p.name}`" @change="(role: string) => change(p, role)">
              <ElOption v-for="r in roles" :key="r" :value="r" />
            </ElSelect>
          </td>
          <td>{{ p.email }}</td>
          <td class="nowrap">{{ moment(p.made_at) }}</td>
          <td class="nowrap">{{ p.seen_at ? moment(p.seen_at) : p.waits ? 'never; a code waits' : 'never' }}</td>
          <td>{{ p.owns.join(', ') }}</td>
          <td class="num nowrap">
            <ElButton size="small" :aria-label="`Give ${p.name} another code`" @click="renew(p)">Another code</ElButton>
            <ElButton size="small" :aria-label="`Remove ${p.name}`" @click="drop(p)">Remove</ElButton>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
  <section v-if="who?.asks" class="sheet part scroll" aria-label="Tokens">
    <header><h2>Tokens</h2><span class="soft">by which programs may do what their person may, or less</span><span class="grow" /><ElButton v-if="who.name" size="small" @click="token = { name: '', role: who.role, job: '', for: '90d' }">Make a token</ElButton></header>
    <StateNote v-if="!tokens.data.value?.items.length" :loading="tokens.loading.value" :problem="tokens.problem.value">There are no tokens. The command line makes one by itself: undertide sign-in {{ who.name || 'NAME' }} --server {{ origin }}</StateNote>
    <table v-else class="plain">
      <thead><tr><th>person</th><th>token</th><th>role</th><th>jobs</th><th>made (UTC)</th><th>ends (UTC)</th><th>used (UTC)</th><th><span class="hidden">actions</span></th></tr></thead>
      <tbody>
        <tr v-for="t in tokens.data.value.items" :key="t.person + ' ' + t.name">
          <td>{{ t.person }}</td>
          <td>{{ t.name }}</td>
          <td>{{ t.role }}</td>
          <td>{{ t.job || 'all' }}</td>
          <td class="nowrap">{{ moment(t.made_at) }}</td>
          <td class="nowrap">{{ t.ends_at ? moment(t.ends_at) : 'never' }}</td>
          <td class="nowrap">{{ t.used_at ? moment(t.used_at) : 'never' }}</td>
          <td class="num"><ElButton size="small" :aria-label="`Revoke ${t.name} of ${t.person}`" @click="revoke(t)">Revoke</ElButton></td>
        </tr>
      </tbody>
    </table>
  </section>
  <section v-if="keeps" class="sheet part scroll" aria-label="Trail">
    <header><h2>Trail</h2><span class="soft">who did what, and what was not let; the newest first</span><span class="grow" /><ElInput v-model="of" size="small" class="of" placeholder="of whom" aria-label="Of whom" clearable /></header>
    <StateNote v-if="!trail.data.value?.items.length" :loading="trail.loading.value" :problem="trail.problem.value">{{ of ? `Nothing was done by ${of}.` : 'Nothing was done yet.' }}</StateNote>
    <table v-else class="plain">
      <thead><tr><th>when (UTC)</th><th>who</th><th>from</th><th>did</th><th>on</th><th>outcome</th></tr></thead>
      <tbody>
        <tr v-for="l in trail.data.value.items" :key="l.id">
          <td class="nowrap" :title="l.at">{{ moment(l.at) }}</td>
          <td>{{ l.who }}</td>
          <td>{{ l.address }}</td>
          <td class="mono">{{ l.action }}</td>
          <td>{{ l.target }}{{ l.version ? `, version ${l.version}` : '' }}</td>
          <td :class="{ bad: l.outcome !== 'done' }">{{ l.outcome === 'done' ? '○ done' : `▲ ${l.outcome}` }}</td>
        </tr>
      </tbody>
    </table>
  </section>
  <ElDialog v-if="adding" :model-value="true" title="Add somebody" width="440px" @close="adding = null">
    <div class="field"><label for="person-name">Name</label><ElInput id="person-name" v-model="adding.name" /></div>
    <div class="field"><label for="person-role">Role</label><ElSelect id="person-role" v-model="adding.role" aria-label="Role" :disabled="!who?.asks"><ElOption v-for="r in roles" :key="r" :value="r" /></ElSelect></div>
    <p class="soft">{{ does[adding.role] }}</p>
    <div class="field"><label for="person-mail">Mail address (for single sign-on; may be left out)</label><ElInput id="person-mail" v-model="adding.email" /></div>
    <div v-if="failure" class="notice bad" role="alert">{{ said(failure) }}</div>
    <template #footer><ElButton type="primary" :disabled="!adding.name" @click="add">Add</ElButton></template>
  </ElDialog>
  <ElDialog v-if="token" :model-value="true" title="Make a token" width="440px" @close="token = null">
    <div class="field"><label for="token-name">Name</label><ElInput id="token-name" v-model="token.name" placeholder="dashboard" /></div>
    <div class="field"><label for="token-role">What it may do</label><ElSelect id="token-role" v-model="token.role" aria-label="What it may do"><ElOption v-for="r in lesser" :key="r" :value="r" /></ElSelect></div>
    <div class="field"><label for="token-job">For one job alone (empty: all)</label><ElInput id="token-job" v-model="token.job" /></div>
    <div class="field"><label for="token-for">How long it lasts (empty: until it is revoked)</label><ElInput id="token-for" v-model="token.for" /></div>
    <div v-if="failure" class="notice bad" role="alert">{{ said(failure) }}</div>
    <template #footer><ElButton type="primary" :disabled="!token.name" @click="makeToken">Make it</ElButton></template>
  </ElDialog>
  <ElDialog v-if="choosing" :model-value="true" title="Choose another password" width="440px" @close="choosing = false">
    <div class="field"><label for="password-old">The one of now</label><ElInput id="password-old" v-model="old" type="password" autocomplete="current-password" show-password /></div>
    <div class="field"><label for="password-new">Another one, of at least 12 characters</label><ElInput id="password-new" v-model="fresh" type="password" autocomplete="new-password" show-password /></div>
    <div v-if="failure" class="notice bad" role="alert">{{ said(failure) }}</div>
    <template #footer><ElButton type="primary" :disabled="!old || fresh.length < 12" @click="choose">Choose it</ElButton></template>
  </ElDialog>
</template>

<script setup lang="ts">
import { ElButton, ElDialog, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, ref, shallowRef } from 'vue'
import { useRouter } from 'vue-router'

import { moment } from '../format'
import { asProblem, part, post, put, remove, said, type ListOf, type Problem, type Schemas } from '../http'
import StateNote from '../parts/StateNote.vue'
import { aRole, covers, useMe, type Role } from '../use/me'
import { useResource } from '../use/resource'
import { sure } from '../use/sure'

type Person = Schemas['Person']

const roles: Role[] = ['reader', 'engineer', 'keeper']
const does: Record<string, string> = {
  reader: 'A reader sees figures, maps and states of jobs, and changes nothing.',
  engineer: 'An engineer sees all of a job, its rows and events too; saves, starts and stops jobs.',
  keeper: 'A keeper does what an engineer does, and keeps connections, secrets, notices, people and settings.',
}
const origin = window.location.origin

const me = useMe()
const router = useRouter()
const who = computed(() => me.me.value)
const keeps = computed(() => covers(who.value?.role ?? '', 'keeper'))
const lesser = computed(() => roles.filter((r) => covers(who.value?.role ?? '', r)))
const mayText = computed(() => (who.value ? `${does[who.value.role]}${who.value.role === 'keeper' ? '' : ` For more, ask ${who.value.keepers.join(', ')}.`}` : ''))

const people = useResource<ListOf<'Person'>>(computed(() => (keeps.value ? '/people' : '')), 5000)
const tokens = useResource<ListOf<'PersonToken'>>(computed(() => (who.value?.asks ? '/tokens' : '')))
const of = ref('')
const trail = useResource<{ items: Schemas['TrailLine'][] }>(computed(() => (keeps.value ? `/trail?limit=100${of.value ? `&who=${part(of.value)}` : ''}` : '')), 5000)
const summary = computed(() => {
  const n = people.data.value?.items.length ?? 0
  return n ? `${n} may sign in` : ''
})

const failure = shallowRef<Problem | null>(null)
async function act<T>(what: () => Promise<T>): Promise<T | undefined> {
  failure.value = null
  try {
    const got = await what()
    await Promise.all([me.refresh(), people.refresh(), tokens.refresh(), trail.refresh()])
    return got
  } catch (e) {
    failure.value = asProblem(e)
    return undefined
  }
}

// What is given out once.
const made = ref<{ who: string; text: string } | null>(null)
const copied = ref(false)
async function copy(text: string) {
  await navigator.clipboard.writeText(text)
  copied.value = true
}
function give(who: string, text: string) {
  copied.value = false
  made.value = { who, text }
}
function giveCode(m: Schemas['MadePerson']) {
  give(`${m.person.name} chooses a password at this address, once, until ${moment(m.ends_at)} UTC; it is shown this once:`, origin + m.path)
}

const adding = ref<{ name: string; role: string; email: string } | null>(null)
async function add() {
  if (!who.value?.asks) return addFirst()
  const got = await act(() => post<Schemas['MadePerson']>('/people', adding.value))
  if (!got) return
  adding.value = null
  giveCode(got)
}
// From the first keeper on, whoever asks has to sign in: this page goes on to where the keeper chooses a password.
async function addFirst() {
  failure.value = null
  try {
    const got = await post<Schemas['MadePerson']>('/people', adding.value)
    adding.value = null
    await router.push({ path: '/enter', hash: `#${got.code}` })
  } catch (e) {
    failure.value = asProblem(e)
  }
}
function change(p: Person, role: string) {
  void act(() => put(`/people/${part(p.name)}`, { role }))
}
async function renew(p: Person) {
  if (!(await sure(`${p.name} chooses another password with it. Their sessions end now.`, 'Give another code'))) return
  const got = await act(() => post<Schemas['MadePerson']>(`/people/${part(p.name)}/code`))
  if (got) giveCode(got)
}
async function drop(p: Person) {
  if (!(await sure(`Remove ${p.name}? Their sessions and tokens end at once; what they did stays in the trail.`, 'Remove'))) return
  await act(() => remove(`/people/${part(p.name)}`))
}

const token = ref<{ name: string; role: string; job: string; for: string } | null>(null)
async function makeToken() {
  const t = token.value
  if (!t) return
  const got = await act(() => post<Schemas['MadePersonToken']>('/tokens', { name: t.name, role: t.role, job: t.job || undefined, for: t.for || undefined }))
  if (!got) return
  token.value = null
  give(`Token ${got.token.name} may do what ${aRole(got.token.role)} may; it is shown this once:`, got.text)
}
async function revoke(t: Schemas['PersonToken']) {
  if (!(await sure(`Revoke ${t.name} of ${t.person}? Programs that use it are let in no more.`, 'Revoke'))) return
  await act(() => remove(`/tokens/${part(t.name)}?person=${part(t.person)}`))
}

const choosing = ref(false)
const old = ref('')
const fresh = ref('')
async function choose() {
  const got = await act(() => post('/me/password', { old: old.value, new: fresh.value }))
  old.value = fresh.value = ''
  if (got) choosing.value = false
}
</script>

<style scoped>
.head { display: flex; align-items: baseline; gap: 12px; margin-bottom: 12px; }
.part { margin-bottom: 14px; }
.role { width: 110px; }
.of { width: 140px; }
:deep(.field) { margin-bottom: 10px; }
.once { display: block; margin: 6px 0; overflow-wrap: anywhere; user-select: all; }
</style>
