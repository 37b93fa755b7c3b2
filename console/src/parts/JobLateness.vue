<template>
  <div>
    <p v-if="late.data.value && late.data.value.sources.length > 1">
      source
      <ElSelect v-model="source" size="small" style="width: 150px" aria-label="Source"><ElOption v-for="s in late.data.value.sources" :key="s" :value="s" :label="s" /></ElSelect>
    </p>
    <LatenessPanel :of="late.data.value" :busy="late.busy.value" :problem="late.problem.value">No events with a time.</LatenessPanel>
  </div>
</template>

<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import { ref, watch } from 'vue'

import { ask, part, type Schemas } from '../http'
import { useAsked } from '../use/asked'
import LatenessPanel from './LatenessPanel.vue'

const props = defineProps<{ job: string }>()
const source = ref('')
const late = useAsked((job: string, of: string) => ask<Schemas['LatenessOf']>(`/jobs/${part(job)}/lateness${of ? `?source=${part(of)}` : ''}`))
watch([() => props.job, source], () => void late.ask(props.job, source.value), { immediate: true })
</script>
