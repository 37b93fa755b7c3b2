<template>
  <section class="sheet" aria-label="Schemas">
    <header>
      <h2>Schemas of {{ connection }}</h2>
      <span class="soft">what its registry has; choose a subject to see its versions</span>
      <span class="grow" />
      <ElButton v-needs="'engineer'" size="small" @click="begin('', '')">Add a schema</ElButton>
    </header>
    <StateNote v-if="!list.data.value?.items.length" :loading="list.loading.value" :problem="list.problem.value">The registry has no schemas yet. Add one, or let a sink with <code class="mono">encode: avro</code> register its own.</StateNote>
    <table v-else class="plain">
      <thead><tr><th>subject</th><th class="num">version</th><th class="num">number</th><th>fields</th><td /></tr></thead>
      <tbody>
        <template v-for="s in list.data.value.items" :key="s.subject">
          <tr :class="{ here: s.subject === subject }">
            <td class="nowrap"><ElButton text size="small" :aria-expanded="s.subject === subject" @click="subject = subject === s.subject ? '' : s.subject">{{ s.subject }}</ElButton></td>
            <td class="num">{{ s.version }}</td>
            <td class="num">{{ s.id }}</td>
            <td>{{ s.fields.join(', ') }}</td>
            <td class="acts"><ElButton v-needs="'engineer'" size="small" text @click="begin(s.subject, s.text)">Add a version</ElButton></td>
          </tr>
          <tr v-if="s.subject === subject">
            <td colspan="5">
              <StateNote v-if="!versions.data.value" :loading="versions.loading.value" :problem="versions.problem.value" />
              <div v-for="v in newest" v-else :key="v.version" class="version">
                <strong>version {{ v.version }}</strong> <span class="soft">number {{ v.id }}: {{ v.fields.join(', ') }}</span>
                <pre class="mono" tabindex="0">{{ pretty(v.text) }}</pre>
              </div>
            </td>
          </tr>
        </template>
      </tbody>
    </table>
    <ElDialog v-if="adding" :model-value="true" title="Add a schema" width="720px" @close="adding = null">
      <div class="how">
        <label for="sch-subject">subject</label>
        <ElInput id="sch-subject" v-model="adding.subject" size="small" placeholder="TOPIC-value" />
      </div>
      <ElInput v-model="adding.text" type="textarea" :rows="14" class="mono" aria-label="Schema" />
      <div v-if="said" class="notice" :class="{ bad: !good }" :role="good ? 'status' : 'alert'">{{ said }}</div>
      <template #footer>
        <ElButton @click="adding = null">Close</ElButton>
        <ElButton :disabled="!ready" @click="check">Does it fit?</ElButton>
        <ElButton type="primary" :disabled="!ready" @click="register">Add</ElButton>
      </template>
    </ElDialog>
  </section>
</template>

<script setup lang="ts">
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { computed, ref, watch } from 'vue'

import { asProblem, type ListOf } from '../http'
import StateNote from './StateNote.vue'
import { vNeeds } from '../use/me'
import { useResource } from '../use/resource'
import { schemas } from '../use/streams'

const props = defineProps<{
  /** The connection whose registry is shown. */
  connection: string
}>()

const list = useResource<ListOf<'Schema'>>(computed(() => schemas.at(props.connection)))
const subject = ref('')
const versions = useResource<ListOf<'Schema'>>(computed(() => (subject.value ? `${schemas.at(props.connection)}?subject=${encodeURIComponent(subject.value)}` : '')))
const newest = computed(() => [...(versions.data.value?.items ?? [])].reverse())

const adding = ref<{ subject: string; text: string } | null>(null)
const said = ref('')
const good = ref(true)
const ready = computed(() => !!adding.value?.subject.trim() && !!adding.value?.text.trim())
watch(adding, () => (said.value = ''), { deep: true })

/** A schema as JSON with an indentation; as it is where it is not JSON. */
function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2)
  } catch {
    return text
  }
}
function begin(of: string, text: string) {
  adding.value = { subject: of, text: text && pretty(text) }
}
/** Says what came of something that was asked of the registry. */
async function tell(what: () => Promise<[fine: boolean, text: string]>) {
  try {
    ;[good.value, said.value] = await what()
  } catch (e) {
    const p = asProblem(e)
    good.value = false
    said.value = `${p.detail}; ${p.fix}.`
  }
}
function check() {
  const { subject, text } = adding.value!
  return tell(async () => {
    const fit = await schemas.check(props.connection, subject.trim(), text)
    return [fit.fits, fit.fits ? 'It fits the newest version.' : `It does not fit the newest version: ${fit.why.join('; ')}.`]
  })
}
function register() {
  const { subject: of, text } = adding.value!
  return tell(async () => {
    const kept = await schemas.register(props.connection, of.trim(), text)
    await Promise.all([list.refresh(), versions.refresh()])
    return [true, `It is version ${kept.version} of ${kept.subject}, number ${kept.id}.`]
  })
}
</script>

<style scoped>
td { vertical-align: middle; }
td > .el-button { padding: 0; margin: 0; }
tr.here td { background: var(--sea-soft); }
.acts { text-align: right; }
.how { display: grid; grid-template-columns: max-content 1fr; gap: 8px; align-items: center; margin-bottom: 10px; }
.version { padding: 6px 4px; }
pre { margin: 6px 0 0; padding: 8px 10px; max-height: 260px; overflow: auto; background: var(--ground); border-radius: 4px; }
.notice { margin-top: 10px; }
</style>
