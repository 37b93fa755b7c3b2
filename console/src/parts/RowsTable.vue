<template>
  <StateNote v-if="rows.length === 0" :loading="loading" :problem="problem">No rows yet. They appear here as they are published.</StateNote>
  <p v-if="gap" class="soft gap" role="status">{{ gap }}</p>
  <div v-if="rows.length > 0" class="scroll" tabindex="0">
    <table class="plain rows" data-rows>
      <thead>
        <tr>
          <th v-for="f in fields" :key="f.name" :class="{ num: toRight(f.type) }" :aria-sort="sorted === f.name ? (down ? 'descending' : 'ascending') : 'none'">
            <button type="button" class="sort" @click="sortBy(f.name)">{{ f.name }}{{ sorted === f.name ? (down ? ' ↓' : ' ↑') : '' }}</button>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in shown" :key="r.seq">
          <td v-for="f in fields" :key="f.name" :class="{ num: toRight(f.type), nowrap: f.type === 'timestamp' }" :title="raw(r.row[f.name])">{{ cell(r.row[f.name], f.type, decimals) }} <LevelMark v-if="levelOf(r.row[f.name], f.levels)" :level="levelOf(r.row[f.name], f.levels)!" /></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script setup lang="ts">
import { computed, ref, toRef, watch } from 'vue'

import { cell, toRight } from '../format'
import { levelOf, type Field } from '../results'
import { useRows, type Row } from '../use/runs'
import LevelMark from './LevelMark.vue'
import StateNote from './StateNote.vue'

const props = defineProps<{
  run: number
  /** A source, step or output. */
  step: string
  /** How many rows are shown at once. */
  rowsShown: number
  /** Only rows that hold this text in some field; empty for all. */
  filter?: string
  /** Only rows for which it says so. */
  pick?: (r: Row) => boolean
  /** How many decimals numbers have; up to three without. */
  decimals?: number
}>()
const emit = defineEmits<{
  /** The rows that are held, newest first, with their fields; whenever they change. */
  rows: [rows: Row[], fields: Field[], key: string[]]
}>()

const { gap, rows, fields, key, loading, problem } = useRows(toRef(props, 'run'), toRef(props, 'step'))
watch([rows, fields], () => emit('rows', rows.value, fields.value, key.value), { immediate: true })

const sorted = ref('') // the newest first
const down = ref(true)
function sortBy(name: string) {
  if (sorted.value !== name) {
    sorted.value = name
    down.value = true
  } else if (down.value) down.value = false
  else sorted.value = ''
}

function raw(v: unknown): string {
  return v === null || v === undefined ? 'null' : String(v)
}

const shown = computed(() => {
  const wanted = props.filter?.toLowerCase() ?? ''
  const some = props.pick ? rows.value.filter(props.pick) : rows.value
  let list = wanted ? some.filter((r) => Object.values(r.row).some((v) => String(v).toLowerCase().includes(wanted))) : some
  const by = sorted.value
  if (!by && fields.value.some((f) => f.name === 'window_end')) {
    // Lanes publish side by side: the newest window is the one that ends last.
    list = [...list].sort((a, b) => {
      const x = String(a.row.window_end)
      const y = String(b.row.window_end)
      return x === y ? b.seq - a.seq : x < y ? 1 : -1
    })
  }
  if (by) {
    const sign = down.value ? -1 : 1
    list = [...list].sort((a, b) => {
      const x = a.row[by] as string | number | null
      const y = b.row[by] as string | number | null
      if (x === y) return b.seq - a.seq
      if (x === null) return 1
      if (y === null) return -1
      return x < y ? -sign : sign
    })
  }
  return list.slice(0, props.rowsShown)
})
</script>

<style scoped>
.gap { margin: 0 0 6px; font-size: 12px; }
.sort { border: 0; background: none; font: inherit; color: inherit; padding: 0; cursor: pointer; }
.rows th, .rows td { padding-right: 9px; }
.rows td { padding-top: 3px; padding-bottom: 3px; max-width: 260px; overflow: hidden; text-overflow: ellipsis; }
</style>
