<template>
  <div class="written">
    <header>
      <strong>What lies there, newest first</strong>
      <span v-if="said" class="soft">{{ said }}</span>
      <span class="grow" />
      <ElInput v-model="where" size="small" class="ask" placeholder="a condition, as mean_m > 2.5" clearable aria-label="Condition for rows" @change="asked = where" @clear="asked = ''" />
      <a v-if="rows.length" class="soft" :href="file" :download="`${job}-${sink}.csv`">CSV</a>
      <ElButton size="small" :loading="loading" @click="refresh">Look again</ElButton>
    </header>
    <StateNote v-if="problem || rows.length === 0" :loading="loading" :problem="problem">{{ asked ? 'No row fits.' : 'Nothing is written yet.' }}</StateNote>
    <RowsGrid v-else :fields="fields" :rows="rows" :height="300" />
  </div>
</template>

<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, ref } from 'vue'

import { count } from '../format'
import { address, part } from '../http'
import { useResource } from '../use/resource'
import type { Rows } from '../use/runs'
import RowsGrid from './RowsGrid.vue'
import StateNote from './StateNote.vue'

const props = defineProps<{
  job: string
  sink: string
}>()

const where = ref('')
const asked = ref('')
const path = computed(() => `/jobs/${part(props.job)}/steps/${encodeURIComponent(`sink ${props.sink}`)}/rows?limit=200${asked.value ? `&where=${encodeURIComponent(asked.value)}` : ''}`)
const { data, loading, problem, refresh } = useResource<Rows>(path)
const fields = computed(() => (data.value?.fields ?? []).map((f) => `${f.name} ${f.type}`))
const rows = computed(() => (data.value?.rows ?? []).map((r) => r.row))
const said = computed(() => (rows.value.length ? `${count(rows.value.length)} ${rows.value.length === 1 ? 'row' : 'rows'}` : ''))
const file = computed(() => `${address(path.value)}&format=csv`)
</script>

<style scoped>
.written { margin-top: 8px; font-size: 12.5px; }
.written header { display: flex; gap: 10px; align-items: baseline; margin-bottom: 6px; }
.grow { flex: 1; }
.ask { width: 240px; }
</style>
