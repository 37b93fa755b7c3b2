<template>
  <section class="sheet records" aria-label="Records">
    <ElTabs v-model="tab">
      <ElTabPane label="History" name="history" lazy><HistoryList :job="job" /></ElTabPane>
      <ElTabPane label="Log" name="log" lazy><LogList :job="job" /></ElTabPane>
      <ElTabPane label="Checkpoints" name="checkpoints" lazy><CheckpointList :job="job" :version="version" :steps="steps" /></ElTabPane>
      <ElTabPane label="Lateness" name="lateness" lazy><JobLateness :job="job" /></ElTabPane>
      <ElTabPane label="Versions" name="versions" lazy><VersionList :job="job" :newest="version" /></ElTabPane>
    </ElTabs>
  </section>
</template>

<script setup lang="ts">
import { ElTabPane, ElTabs } from 'element-plus'
import { ref } from 'vue'

import CheckpointList from './CheckpointList.vue'
import HistoryList from './HistoryList.vue'
import JobLateness from './JobLateness.vue'
import LogList from './LogList.vue'
import VersionList from './VersionList.vue'

defineProps<{
  job: string
  /** The newest version. */
  version: number
  /** Names of the steps that keep something. */
  steps: string[]
}>()
const tab = ref('history')
</script>

<style scoped>
.records { margin-top: 14px; padding-top: 4px; }
</style>
