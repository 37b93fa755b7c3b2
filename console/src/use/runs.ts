import { computed, shallowRef, watch, type Ref } from 'vue'

import type { Schemas } from '../http'
import { useResource } from './resource'
import { useStream } from './stream'

export type Figures = Schemas['Figures']
export type Run = Schemas['Run']
export type Row = Schemas['Row'] & { row: Record<string, unknown> }
export type Rows = Omit<Schemas['Rows'], 'rows'> & { rows: Row[] }

/** A run's figures every second, and the last half hour of them for small lines. */
export function useFigures(run: Ref<number | null>) {
  const figures = shallowRef<Figures | null>(null)
  const state = shallowRef<Run | null>(null)
  const path = computed(() => (run.value ? `/runs/${run.value}/figures` : ''))
  watch(path, () => {
    figures.value = null
    state.value = null
  })
  const { problem } = useStream(path, {
    metrics: (d) => (figures.value = d as Figures),
    run: (d) => (state.value = d as Run),
  })
  return { figures, run: state, problem }
}

/** A run's figures over the last half hour, asked for again every ten seconds. */
export function usePast(run: Ref<number | null>) {
  return useResource<{ items: Schemas['Sample'][] }>(
    computed(() => (run.value ? `/runs/${run.value}/figures/past?since=30m&limit=180` : '')),
    10_000,
  )
}

const most = 3000

/** The newest rows of a step, newest first, live. */
export function useRows(run: Ref<number | null>, step: Ref<string>) {
  const path = computed(() => (run.value && step.value ? `/runs/${run.value}/steps/${encodeURIComponent(step.value)}/rows?limit=${most}` : ''))
  const first = useResource<Rows>(path)
  const rows = shallowRef<Row[]>([])
  const passed = shallowRef(0)
  watch(first.data, (d) => {
    rows.value = d?.rows ?? []
    passed.value = d?.passed ?? 0
  })
  let fresh: Row[] = []
  let due: ReturnType<typeof setTimeout> | undefined
  function take() {
    due = undefined
    const known = new Set(rows.value.slice(0, fresh.length + 100).map((r) => r.seq))
    const list = fresh.filter((r) => !known.has(r.seq)).reverse()
    fresh = []
    if (list.length === 0) return
    rows.value = [...list, ...rows.value].slice(0, most)
    passed.value = Math.max(passed.value, rows.value[0].seq)
  }
  // The stream begins after the first answer, with what came since.
  const follow = computed(() => (first.data.value ? `${path.value}&after=${first.data.value.rows[0]?.seq ?? 0}` : ''))
  useStream(follow, {
    row: (d) => {
      fresh.push(d as Row)
      due ??= setTimeout(take, 200) // one drawing for many rows
    },
  })
  return { rows, passed, fields: computed(() => first.data.value?.fields ?? []), key: computed(() => first.data.value?.key ?? []), loading: first.loading, problem: first.problem }
}
