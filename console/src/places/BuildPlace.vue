<template>
  <header class="head">
    <h1>{{ plan?.job || 'Build' }}</h1>
    <span class="soft">{{ state }}</span>
    <span class="grow" />
    <template v-if="text">
      <ElButton v-needs="'engineer'" :loading="rehearsing.busy.value" :disabled="faults.length > 0" @click="rehearse">Rehearse</ElButton>
      <ElButton v-needs="'engineer'" :loading="examples.busy.value" :disabled="faults.length > 0" @click="runExamples">{{ examplesLabel }}</ElButton>
      <ElButton :disabled="faults.length > 0" @click="router.push('/try?lesson=own')">Try</ElButton>
      <ElButton v-needs="'engineer'" type="primary" :disabled="faults.length > 0 || !checked" :loading="saving.busy.value" @click="draft.madeFrom.value && ofDraft ? (showing = true) : save(draft.madeFrom.value)">Save</ElButton>
      <ElButton v-if="saved" v-needs="'engineer'" type="primary" @click="starting = true">Start …</ElButton>
    </template>
  </header>
  <div v-if="unknown" class="notice bad" role="alert">{{ unknown.detail }}; {{ unknown.fix }}.</div>
  <div v-if="moved" class="notice bad" role="alert">{{ moved.detail }}: somebody has saved it meanwhile. <ElButton size="small" @click="save('')">Save mine as the newest all the same</ElButton></div>
  <div v-else-if="saving.problem.value" class="notice bad" role="alert">{{ saving.problem.value.detail }}; {{ saving.problem.value.fix }}.</div>
  <div v-if="saved" class="notice good" role="status">{{ saved.stored ? `Saved as version ${saved.number} of ${saved.job}.` : `Nothing changed: it equals version ${saved.number} of ${saved.job}.` }}<template v-if="saved.filled"> What the description of {{ saved.filled.join(', ') }} says was written into the text.</template><template v-for="w in saved.warnings" :key="w"><br />{{ w }}</template></div>
  <BuildBeginnings v-if="!text" @begin="draft.begin" />
  <div v-else class="desk">
    <section class="sheet" aria-label="Document">
      <header>
        <h2>Document</h2>
        <span class="soft">add</span>
        <AddMenu :text="text" :fields="fieldsOfPlan" @change="text = $event" @choose="choose" />
        <span class="grow" />
        <span class="acts">
          <ElButton size="small" text :disabled="!editor?.undoable" @click="editor?.undo()">Undo</ElButton>
          <ElButton size="small" text :disabled="!editor?.redoable" @click="editor?.redo()">Redo</ElButton>
          <ElButton size="small" text @click="clear">Begin another</ElButton>
        </span>
      </header>
      <DocumentEditor ref="editor" v-model="text" :faults="faults" :warnings="checked?.warnings ?? []" :marked="marked" :fields="fieldsAt" @line="line = $event" />
      <ul v-if="faults.length" class="faults" aria-label="Mistakes">
        <li v-for="(f, i) in faults" :key="i">
          <button type="button" class="to" @click="editor?.show(f.line)">line {{ f.line }}</button> {{ f.message }}; {{ f.fix }}{{ f.fix.endsWith('?') ? '' : '.' }}
          <button v-if="remedy(f)" type="button" class="to" @click="mend(f)">Change it to {{ remedy(f) }}</button>
        </li>
      </ul>
      <ul v-else-if="checked?.warnings.length" class="faults amber" aria-label="Warnings">
        <li v-for="(f, i) in checked.warnings" :key="i"><button type="button" class="to" @click="editor?.show(f.line)">line {{ f.line }}</button> {{ f.message }}; {{ f.fix }}.</li>
      </ul>
      <div v-if="draft.problem.value" class="notice bad" role="alert">{{ draft.problem.value.detail }}; {{ draft.problem.value.fix }}.</div>
    </section>
    <div class="side">
      <section class="sheet" aria-label="Map">
        <header><h2>Map</h2><span class="soft">drawn from the document; choose a part</span></header>
        <JobMap v-if="plan" :plan="plan" :figures="null" :chosen="mapChosen" compact :notes="notes" @choose="choose" />
        <p class="beside">
          <span class="soft">beside the map</span>
          <button v-for="b in beside" :key="b" type="button" class="chip" :class="{ on: b === part }" :aria-pressed="b === part" @click="choose(b)">{{ b }}</button>
        </p>
      </section>
      <section v-if="part" class="sheet" aria-label="Chosen part">
        <header>
          <h2>{{ part }}</h2>
          <ElTabs v-if="onMap" v-model="side" class="mini"><ElTabPane label="Form" name="form" /><ElTabPane label="Fields" name="fields" /><ElTabPane v-if="part.startsWith('source ')" label="Lateness" name="lateness" /></ElTabs>
        </header>
        <PartForm v-if="side === 'form' || !onMap" :key="part" :text="text" :part="part" :fields="fieldsOfPlan" :sample="sample" :found="found" @change="text = $event" />
        <template v-else-if="side === 'fields'">
          <table v-if="partFields.length" class="plain"><thead><tr><th>field</th><th>type</th></tr></thead><tbody><tr v-for="f in partFields" :key="f.name"><td>{{ f.name }}</td><td>{{ f.type }}</td></tr></tbody></table>
          <StateNote v-else :loading="false" :problem="null">Its fields are known once the document has no mistakes.</StateNote>
          <p v-if="makes" class="small"><strong>Makes</strong> {{ makes }}.</p>
        </template>
        <LatenessPanel v-else :of="late.data.value" :busy="late.busy.value" :problem="late.problem.value">
          The document has mistakes.
          <template #take="{ margin }"><ElButton size="small" type="primary" @click="takeMargin(margin)">Take {{ margin }} as margin</ElButton></template>
        </LatenessPanel>
      </section>
      <section class="sheet" aria-label="Rehearsal">
        <header>
          <h2>Rehearsal</h2>
          <span v-if="rehearsing.data.value" class="soft">{{ rehearsed }}{{ faults.length ? ' · of the text before the mistake' : '' }}</span>
          <span class="grow" />
          <span class="which">
            <ElSelect v-model="sampleFrom" size="small" style="width: 108px" aria-label="Which events"><ElOption value="newest" label="the newest" /><ElOption value="oldest" label="the oldest" /></ElSelect>
            <ElSelect v-model="sampleRows" size="small" style="width: 84px" aria-label="How many"><ElOption v-for="n in [100, 1000, 10000]" :key="n" :value="n" :label="count(n)" /></ElSelect>
          </span>
        </header>
        <RehearsalPanel v-if="rehearsing.data.value" :rehearsal="rehearsing.data.value" :part="mapChosen" />
        <StateNote v-else :loading="rehearsing.busy.value" :problem="rehearsing.problem.value">Run the document on the newest 1,000 events of its sources. Nothing is delivered.</StateNote>
        <ul v-if="examples.data.value" class="examples" aria-label="Examples">
          <li v-for="e in examples.data.value.items" :key="e.line" :class="{ bad: e.differences.length }">
            <button type="button" class="to" @click="editor?.show(e.line)">line {{ e.line }}</button> {{ e.differences.length ? '✕' : '✓' }} {{ e.about }}
            <div v-for="d in e.differences" :key="d" class="mono">{{ d }}</div>
          </li>
          <li v-if="!examples.data.value.items.length" class="soft">The document has no examples. Try plays events one by one and saves them as one.</li>
        </ul>
        <div v-if="examples.problem.value" class="notice bad">{{ examples.problem.value.detail }}</div>
      </section>
    </div>
  </div>
  <SaveDialog v-if="showing" :job="plan?.job ?? ''" :from="draft.madeFrom.value" :before="draft.base.value" :after="text" :busy="saving.busy.value" @save="save(draft.madeFrom.value)" @close="showing = false" />
  <StartDialog v-if="starting && saved" :job="saved.job" :version="saved.number" :values="checked?.values ?? []" @close="starting = false" />
</template>

<script setup lang="ts">
import { ElButton, ElOption, ElSelect, ElTabPane, ElTabs } from 'element-plus'
import { computed, defineAsyncComponent, nextTick, ref, shallowRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import { namesOf, put } from '../document/splice'
import { count } from '../format'
import { ask, asProblem, part as escaped, type Problem, type Schemas } from '../http'
import AddMenu from '../parts/AddMenu.vue'
import BuildBeginnings from '../parts/BuildBeginnings.vue'
import LatenessPanel from '../parts/LatenessPanel.vue'
import PartForm from '../parts/PartForm.vue'
import RehearsalPanel from '../parts/RehearsalPanel.vue'
import SaveDialog from '../parts/SaveDialog.vue'
import StartDialog from '../parts/StartDialog.vue'
import StateNote from '../parts/StateNote.vue'
import { useAsked } from '../use/asked'
import { partAt, useDraft } from '../use/draft'
import { useFields } from '../use/fields'
import { useFound } from '../use/found'
import { vNeeds } from '../use/me'
import { useRehearsal } from '../use/rehearsal'

const DocumentEditor = defineAsyncComponent(() => import('../parts/DocumentEditor.vue'))
const JobMap = defineAsyncComponent(() => import('../parts/JobMap.vue'))

const props = defineProps<{
  /** A job whose newest version is to be changed, from the address; empty for the draft as it is. */
  job?: string
}>()
const router = useRouter()
const draft = useDraft()
const { text, checked, plan } = draft
const editor = ref<{ show(line: number): void; undo(): void; redo(): void; undoable: boolean; redoable: boolean }>()
const faults = computed(() => checked.value?.faults ?? [])

/** Why the job in the address cannot be changed; null for nothing. */
const unknown = shallowRef<Problem | null>(null)
watch(
  () => props.job,
  async (job) => {
    if (!job) return
    unknown.value = null
    try {
      const v = await ask<Schemas['Version']>(`/jobs/${escaped(job)}/versions/newest`)
      await draft.begin(v.document ?? '', `${v.job} version ${v.number}`)
    } catch (e) {
      unknown.value = asProblem(e)
    }
    await router.replace('/build')
  },
  { immediate: true },
)

const line = ref(1)
const part = ref('')
const side = ref('form')
watch(line, (n) => {
  if (draft.checkedText.value !== text.value) return // places are those of an older text
  const p = partAt(checked.value, n)
  if (p && p !== part.value) part.value = p
})
const marked = computed(() => checked.value?.places[part.value] ?? null)
/** As the map names it: sinks begin with "sink ". */
const mapChosen = computed(() => (!onMap.value ? '' : part.value.startsWith('sink ') ? part.value : part.value.slice(part.value.indexOf(' ') + 1)))
/** Whether the chosen part is one of the map, and has fields. */
const onMap = computed(() => /^(source|reference|step|sink) /.test(part.value))
/** What the document has beside the parts of the map. */
const beside = computed(() => [...(['value', 'function', 'alarm'] as const).flatMap((k) => namesOf(text.value, `${k}s`).map((n) => `${k} ${n}`)), 'settings'])
function choose(name: string) {
  // What was just added is in the text, and not yet in what the service says of it.
  part.value = /^(sink|value|function|alarm) |^settings$/.test(name) ? name : namesOf(text.value, 'sources').includes(name) ? `source ${name}` : namesOf(text.value, 'references').includes(name) ? `reference ${name}` : `step ${name}`
  if (!part.value.startsWith('source ') && side.value === 'lateness') side.value = 'form'
  const at = checked.value?.places[part.value]
  if (at) editor.value?.show(at.from)
}
watch(checked, (c) => {
  if (c && draft.checkedText.value === text.value && part.value && part.value !== 'settings' && !c.places[part.value]) part.value = '' // a part may have come since
})

const state = computed(() => {
  const n = faults.value.length
  const mistakes = n ? `${n} ${n === 1 ? 'mistake' : 'mistakes'}` : checked.value ? 'no mistakes' : ''
  return [draft.origin.value ? `made of ${draft.origin.value}` : text.value ? 'not saved' : '', mistakes].filter(Boolean).join(' · ')
})

const { fieldsFrom, fieldsOfPlan, fieldsAt } = useFields()
const found = useFound(text, part)
/** A row of the chosen source's sample. */
const sample = computed(() => {
  const of = rehearsing.data.value?.sources.find((s) => `source ${s.name}` === part.value)
  return (of?.parts.find((p) => p.name === of.name)?.rows[0] as Record<string, unknown> | undefined) ?? null
})
const partFields = computed(() => {
  const name = part.value.slice(part.value.indexOf(' ') + 1)
  return part.value.startsWith('sink ') ? fieldsFrom(checked.value?.plan?.sinks.find((s) => s.name === name)?.fields ?? []) : fieldsOfPlan(name)
})
const makes = computed(() => checked.value?.plan?.sinks.find((s) => `sink ${s.name}` === part.value)?.makes ?? '')

/** What the map says under each part: its mistakes, or its rows in the rehearsal. */
const notes = computed(() => {
  const out: Record<string, { text: string; bad: boolean }> = {}
  const r = rehearsing.data.value
  for (const s of r?.sources ?? []) out[s.name] = { text: `${count(s.events)} sampled`, bad: false }
  for (const s of r?.steps ?? []) out[s.name] = { text: `${count(s.out)} of ${count(s.in)}`, bad: false }
  for (const s of r?.sinks ?? []) out[`sink ${s.name}`] = { text: `${count(s.count)} rows`, bad: false }
  for (const f of faults.value) {
    const p = partAt(checked.value, f.line)
    if (p) out[p.startsWith('sink ') ? p : p.slice(p.indexOf(' ') + 1)] = { text: '✕ a mistake', bad: true }
  }
  return out
})

/** The one word that a fault's remedy names; empty where it is not a word. */
function remedy(f: Schemas['Fault']): string {
  return /^did you mean ([^\s?]+)\?$/.exec(f.fix)?.[1] ?? ''
}
function mend(f: Schemas['Fault']) {
  const lines = text.value.split('\n')
  const l = lines[f.line - 1] ?? ''
  const from = Math.max(0, f.column - 1)
  const wrong = /^['"]?([\w.-]+)/.exec(l.slice(from))
  if (!wrong?.[1]) return
  const at = from + wrong[0].indexOf(wrong[1])
  lines[f.line - 1] = l.slice(0, at) + remedy(f) + l.slice(at + wrong[1].length)
  text.value = lines.join('\n')
}

const { rehearsing, examples, late, sampleRows, sampleFrom, rehearse, runExamples, rehearsed, examplesLabel } = useRehearsal()
// What was saved is of a text: the check of the same text may come after Save.
watch(text, () => (saved.value = null))
watch([part, side, checked], () => {
  if (side.value === 'lateness' && part.value.startsWith('source ') && !faults.value.length) void late.ask(part.value.slice(7))
})
function takeMargin(margin: string) {
  text.value = put(text.value, ['sources', part.value.slice(7), 'watermark', 'margin'], margin)
}
const saved = shallowRef<Schemas['Saved'] | null>(null)
const starting = ref(false)
/** Whether what changed is shown, before it is saved. */
const showing = ref(false)
/** Whether the text is of the job that the draft was made of, and not of another that begins with it. */
const ofDraft = computed(() => plan.value?.job === draft.origin.value.split(' ')[0])
const saving = useAsked((document: string, from: string) =>
  ask<Schemas['Saved']>('/jobs', { method: 'POST', headers: { 'Content-Type': 'application/yaml', ...(from ? { 'If-Match': `"${from}"` } : {}) }, body: document }),
)
const moved = computed(() => (saving.problem.value?.code === 'version-moved' ? saving.problem.value : null))
/** Saves the draft; from is the version that it was made from, empty to save it whatever is the newest. */
async function save(from: string) {
  const document = text.value
  const s = await saving.ask(document, ofDraft.value ? from : '')
  showing.value = false
  if (!s) return
  // What described sources say was written into the version: the draft goes on from that.
  const stored = s.document ?? document
  if (s.document && text.value === document) text.value = s.document
  draft.saved(stored, `${s.job} version ${s.number}`)
  await nextTick()
  saved.value = s
}
async function clear() {
  if (!(await draft.begin(''))) return
  rehearsing.data.value = null
  examples.data.value = null
  part.value = ''
}
</script>

<style scoped>
.head { display: flex; align-items: center; gap: 12px; margin-bottom: 12px; }
.desk { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1.12fr); gap: 14px; align-items: start; }
.which { display: flex; gap: 6px; }
.acts { display: flex; white-space: nowrap; }
.acts .el-button { margin-left: 0; padding: 5px 8px; }
.side { display: grid; gap: 14px; }
.faults { list-style: none; margin: 0 -14px -12px; padding: 8px 14px; background: var(--brick-soft); color: var(--brick); border-radius: 0 0 10px 10px; font-size: 12px; }
.faults.amber { background: var(--amber-soft); color: var(--amber); }
.faults li { padding: 2px 0; overflow-wrap: anywhere; }
.to { border: 0; background: none; color: inherit; font: inherit; text-decoration: underline; cursor: pointer; padding: 0; font-weight: 600; }
.examples { list-style: none; padding: 8px 0 0; margin: 8px 0 0; border-top: 1px solid var(--line); font-size: 12px; }
.mini { --el-tabs-header-height: 28px; }
.mini :deep(.el-tabs__header) { margin: 0; }
.beside { display: flex; flex-wrap: wrap; gap: 6px; align-items: center; margin: 8px 0 0; font-size: 12px; }
.chip { border: 1px solid var(--line); border-radius: 999px; background: none; color: var(--ink); font: inherit; cursor: pointer; padding: 1px 9px; }
.chip.on { background: var(--sea-soft); border-color: var(--sea); }
.small { font-size: 12px; overflow-wrap: anywhere; }
.notice.good { background: var(--sea-soft); color: var(--sea); }
</style>
