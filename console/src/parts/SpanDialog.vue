<template>
  <ElDialog :model-value="true" :title="`Process the past of ${job}`" width="620px" @close="emit('close')">
    <p>Events that are stored are processed again by version {{ version }}, beside the running job: as a job of its own, with checkpoints and state of its own, that ends by itself.</p>
    <div class="row">
      <label for="span-begin">from</label>
      <ElInput id="span-begin" v-model="begin" size="small" placeholder="earliest, or a time such as 2026-03-01T00:00:00Z" />
    </div>
    <div class="row">
      <label for="span-until">until</label>
      <ElInput id="span-until" v-model="until" size="small" placeholder="latest, or a time" />
    </div>
    <p class="soft">Times are of when events were stored. Sinks that replace rows end up with the rows of this version.</p>
    <ElCheckbox v-model="append" label="Sinks that append may take the rows a second time" />
    <div v-if="starting.problem.value" class="notice bad" role="alert">{{ starting.problem.value.detail }}<template v-if="starting.problem.value.fix">; {{ starting.problem.value.fix }}</template>.</div>
    <template #footer>
      <ElButton @click="emit('close')">Close</ElButton>
      <ElButton type="primary" :loading="starting.busy.value" :disabled="!begin.trim() && !until.trim()" @click="start">Process</ElButton>
    </template>
  </ElDialog>
</template>

<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElInput } from 'element-plus'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { part, post, type Schemas } from '../http'
import { useAsked } from '../use/asked'

const props = defineProps<{ job: string; version: number }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const begin = ref('earliest')
const until = ref('latest')
const append = ref(false)
const starting = useAsked(() => post<Schemas['Started']>(`/jobs/${part(props.job)}/runs`, { version: props.version, begin: begin.value.trim(), until: until.value.trim(), append: append.value }))

async function start() {
  const made = await starting.ask()
  if (!made) return
  emit('close')
  await router.push(`/jobs/${part(made.run.job)}`)
}
</script>

<style scoped>
.row { display: flex; align-items: center; gap: 10px; margin: 6px 0; }
.row label { width: 44px; }
</style>
