<template>
  <StateNote v-if="!data?.items.length" :loading="loading" :problem="problem">No checkpoint yet: the first is made as a run begins.</StateNote>
  <template v-else>
    <table v-if="pins.data.value?.items.length" class="plain pins" aria-label="Pins">
      <thead><tr><th>pin</th><th class="num">checkpoint</th><th>written (UTC)</th><th class="num">it alone keeps</th><td /></tr></thead>
      <tbody>
        <tr v-for="p in pins.data.value.items" :key="p.name">
          <td class="nowrap">◆ {{ p.name }}</td>
          <td class="num">{{ p.epoch }}</td>
          <td class="nowrap" :title="p.written_at">{{ moment(p.written_at) }}</td>
          <td class="num">{{ bytes(p.costs_bytes) }}</td>
          <td class="nowrap">
            <ElButton v-needs="'engineer'" size="small" text :aria-label="`look into pin ${p.name}`" @click="opened = `pin:${p.name}`">look into</ElButton>
            <ElButton v-needs="'engineer'" size="small" text :aria-label="`start from pin ${p.name} …`" @click="startFrom = `pin:${p.name}`">start from it …</ElButton>
            <ElButton v-needs="'engineer'" size="small" text :aria-label="`unpin ${p.name}`" @click="act(() => remove(`/jobs/${part(job)}/pins/${part(p.name)}`))">unpin</ElButton>
          </td>
        </tr>
      </tbody>
    </table>
    <div v-if="failure" class="notice bad" role="alert">{{ failure.detail }}; {{ failure.fix }}.</div>
    <div class="scroll list" tabindex="0">
      <table class="plain" aria-label="Checkpoints">
        <thead>
          <tr>
            <th class="num">epoch</th><th>written (UTC)</th><td /><th class="num">run</th><th class="num">took</th><th class="num">longest stall</th><th class="num" title="rows of state that came or changed, and that went">rows changed</th>
            <th class="num">new</th><th class="num">size</th><th class="num">events</th><th>positions, from and to</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in data.items" :key="`${c.run} ${c.epoch}`" :class="{ here: opened === String(c.epoch) }">
            <td class="num">{{ c.epoch }}</td>
            <td class="nowrap" :title="c.written_at">{{ moment(c.written_at) }}</td>
            <td class="nowrap act">
              <strong v-if="c.fault" class="bad">✕ not complete</strong>
              <template v-else-if="c.kept || c.pins.length">
                <ElButton v-needs="'engineer'" size="small" text :aria-label="`look into checkpoint ${c.epoch}`" @click="opened = c.kept ? String(c.epoch) : `pin:${c.pins[0]}`">look into</ElButton>
                <ElButton v-if="c.kept" v-needs="'engineer'" size="small" text :aria-label="`pin checkpoint ${c.epoch} …`" @click="pinning = c.epoch">pin …</ElButton>
                <ElButton v-if="c.kept" v-needs="'engineer'" size="small" text :aria-label="`start from checkpoint ${c.epoch} …`" @click="startFrom = `checkpoint:${c.epoch}`">start …</ElButton>
                <span v-for="p in c.pins" :key="p" class="soft">◆ {{ p }}</span>
              </template>
              <span v-else class="soft">pruned</span>
            </td>
            <td class="num">{{ c.run }}</td>
            <td class="num">{{ Math.round(c.seconds * 1000) }} ms</td>
            <template v-if="c.fault">
              <td colspan="6" class="bad">{{ c.fault }}</td>
            </template>
            <template v-else>
              <td class="num">{{ (c.longest_stall_seconds * 1000).toFixed(1) }} ms</td>
              <td class="num" :title="`${count(c.rows_changed)} came or changed, ${count(c.rows_gone)} went`">{{ count(c.rows_changed + c.rows_gone) }}</td>
              <td class="num">{{ bytes(c.new_bytes) }}</td>
              <td class="num">{{ bytes(c.bytes) }}</td>
              <td class="num">{{ count(c.partitions.reduce((n, p) => n + p.events, 0)) }}</td>
              <td class="places">{{ c.partitions.filter((p) => p.events > 0).map((p) => `${p.source} ${p.name}: ${place(p.from)} to ${place(p.to)}`).join('; ') || 'nothing was read' }}</td>
            </template>
          </tr>
        </tbody>
      </table>
    </div>
    <form v-if="pinning" class="pin" @submit.prevent="pin">
      <label for="pin-name">Keep checkpoint {{ pinning }} as</label>
      <ElInput id="pin-name" v-model="pinName" size="small" placeholder="before-the-storm" />
      <ElButton size="small" type="primary" native-type="submit" :disabled="!pinName">Pin</ElButton>
      <ElButton size="small" text @click="pinning = 0">Leave it</ElButton>
    </form>
    <CheckpointState v-if="opened" :job="job" :checkpoint="opened" :others="others" :steps="steps" @close="opened = ''" />
  </template>
  <StartDialog v-if="startFrom" :job="job" :version="version" :values="values" :from="startFrom" @close="startFrom = ''" />
</template>

<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, ref, shallowRef, toRef } from 'vue'

import { bytes, count, moment } from '../format'
import { asProblem, part, post, remove, type Problem, type Schemas } from '../http'
import { vNeeds } from '../use/me'
import { useResource } from '../use/resource'
import { useValues } from '../use/values'
import CheckpointState from './CheckpointState.vue'
import StartDialog from './StartDialog.vue'
import StateNote from './StateNote.vue'

const props = defineProps<{
  job: string
  /** The newest version, which a start takes. */
  version: number
  /** Names of the steps that keep something. */
  steps: string[]
}>()
const { data, loading, problem, refresh } = useResource<{ items: Schemas['Checkpoint'][] }>(computed(() => `/jobs/${part(props.job)}/checkpoints?limit=30`), 5000)
const pins = useResource<{ items: Schemas['Pin'][] }>(computed(() => `/jobs/${part(props.job)}/pins`), 5000)

/** The checkpoint that is looked into: its epoch, or pin:NAME; empty for none. */
const opened = ref('')
/** Those that it can be compared with. */
const others = computed(() => [
  ...(pins.data.value?.items ?? []).map((p) => ({ place: `pin:${p.name}`, label: `pin ${p.name}`, epoch: p.epoch })),
  ...(data.value?.items ?? []).filter((c) => c.kept).map((c) => ({ place: String(c.epoch), label: `checkpoint ${c.epoch}`, epoch: c.epoch })),
])

const failure = shallowRef<Problem | null>(null)
async function act(what: () => Promise<unknown>): Promise<boolean> {
  failure.value = null
  try {
    await what()
    await Promise.all([refresh(), pins.refresh()])
    return true
  } catch (e) {
    failure.value = asProblem(e)
    return false
  }
}

/** The epoch that a name is asked for; 0 for none. */
const pinning = ref(0)
const pinName = ref('')
async function pin() {
  if (!(await act(() => post(`/jobs/${part(props.job)}/pins`, { name: pinName.value, checkpoint: pinning.value })))) return
  pinning.value = 0
  pinName.value = ''
}

/** What a start is to go back to; empty for none. */
const startFrom = ref('')
const values = useValues(toRef(props, 'job'), computed(() => (startFrom.value ? props.version : 0)))

function place(v: unknown): string {
  if (v === null || v === undefined) return 'the beginning'
  if (typeof v === 'object' && 'offset' in v) return count(Number(v.offset))
  return JSON.stringify(v)
}
</script>

<style scoped>
.list { max-height: 330px; }
.list thead th { position: sticky; top: 0; background: var(--sheet); z-index: 1; }
.pins { width: auto; margin-bottom: 12px; }
.pins td, .list td.act { padding-top: 2px; padding-bottom: 2px; vertical-align: middle; }
.list td { vertical-align: middle; padding-right: 10px; }
.list th { padding-right: 10px; }
.list td.num { white-space: nowrap; }
.act .el-button + .el-button, .pins .el-button + .el-button { margin-left: 0; }
.here { background: var(--sea-soft); }
.places { min-width: 200px; }
.pin { display: flex; align-items: center; gap: 8px; margin-top: 10px; }
.pin .el-input { width: 220px; }
</style>
