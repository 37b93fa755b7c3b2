<template>
  <ElDialog :model-value="true" :title="`Start ${job}, version ${version}`" width="720px" @close="emit('close')">
    <StateNote v-if="!kept.data.value" :loading="kept.loading.value" :problem="kept.problem.value" />
    <template v-else>
      <p v-if="kept.data.value.from === null">The job has no checkpoint: the run begins with nothing, and reads its sources from where <code>begin</code> says.</p>
      <template v-else>
        <ElRadioGroup v-model="resume">
          <ElRadio v-if="from" :value="from">go back to {{ from.replace(':', ' ') }}: rows that were delivered after it are made again</ElRadio>
          <ElRadio value="last">go on from {{ resume === 'last' ? `checkpoint ${kept.data.value.from}` : 'the newest checkpoint' }}</ElRadio>
          <ElRadio value="fresh">begin anew: rows that were delivered are made again</ElRadio>
        </ElRadioGroup>
        <table v-if="resume !== 'fresh'" class="plain kept" aria-label="What is kept">
          <thead><tr><th>part</th><th>what happens</th><td /></tr></thead>
          <tbody>
            <tr v-for="p in kept.data.value.parts" :key="`${p.kind} ${p.name}`">
              <td class="nowrap">{{ p.kind }} {{ p.name }}</td>
              <td><strong :class="{ warn: p.must }">{{ signs[p.what] }} {{ p.what }}</strong>: {{ p.text }}</td>
              <td><ElCheckbox v-if="p.must" v-model="leave[p.name]" :label="`leave it behind`" /></td>
            </tr>
          </tbody>
        </table>
      </template>
      <div v-for="v in values" :key="v.name" class="value">
        <label :for="`v-${v.name}`">{{ v.name }} <span class="soft">{{ v.type }}</span></label>
        <ElInput :id="`v-${v.name}`" v-model="set[v.name]" size="small" :placeholder="v.default" />
      </div>
    </template>
    <div v-if="starting.problem.value" class="notice bad" role="alert">{{ starting.problem.value.detail }}; {{ starting.problem.value.fix }}.</div>
    <template #footer>
      <ElButton @click="emit('close')">Close</ElButton>
      <ElButton type="primary" :loading="starting.busy.value" :disabled="!ready" @click="start">{{ running ? 'Stop the old run and start' : 'Start' }}</ElButton>
    </template>
  </ElDialog>
</template>

<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElInput, ElRadio, ElRadioGroup } from 'element-plus'
import { computed, reactive, ref } from 'vue'
import { useRouter } from 'vue-router'

import { part, post, type Schemas } from '../http'
import { useAsked } from '../use/asked'
import { goesOn, useJobs } from '../use/jobs'
import { useResource } from '../use/resource'
import StateNote from './StateNote.vue'

const props = defineProps<{
  job: string
  version: number
  /** The named constants of the document, which a start may change. */
  values: Schemas['Value'][]
  /** An older checkpoint to go back to, checkpoint:N or pin:NAME; none to go on from the newest. */
  from?: string
}>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const { jobs } = useJobs()

const signs: Record<string, string> = { kept: '●', new: '○', changed: '◇', gone: '✕' }
const resume = ref(props.from ?? 'last')
const kept = useResource<Schemas['Kept']>(computed(() => `/jobs/${part(props.job)}/kept?version=${props.version}&resume=${part(resume.value === 'fresh' ? 'last' : resume.value)}`))
const leave = reactive<Record<string, boolean>>({})
const set = reactive<Record<string, string>>({})
const running = computed(() => goesOn(jobs.value?.find((j) => j.name === props.job)?.status ?? ''))
const ready = computed(() => kept.data.value !== null && (resume.value === 'fresh' || kept.data.value.parts.every((p) => !p.must || leave[p.name])))
const starting = useAsked(() =>
  post<Schemas['Started']>(`/jobs/${part(props.job)}/${running.value ? 'restart' : 'runs'}`, {
    version: props.version, resume: resume.value,
    leave_behind: Object.keys(leave).filter((n) => leave[n]),
    set: Object.fromEntries(Object.entries(set).filter(([, v]) => v !== '')),
  }),
)
async function start() {
  if (!(await starting.ask())) return
  emit('close')
  await router.push(`/jobs/${part(props.job)}`)
}
</script>

<style scoped>
.el-radio-group { flex-direction: column; align-items: start; }
.kept { margin: 10px 0; }
.value { display: grid; grid-template-columns: 200px 160px; gap: 8px; align-items: center; margin-top: 6px; }
</style>
