import { computed, onScopeDispose, ref, shallowRef, watch, type Ref } from 'vue'

import { count } from '../format'
import { ask, part, type Schemas } from '../http'
import { useJobs } from './jobs'
import { useResource } from './resource'

export type Row = Schemas['Row'] & { row: Record<string, unknown> }
export type Rows = Omit<Schemas['Rows'], 'rows'> & { rows: Row[] }

/** A run's figures, every second while it goes on; null before the first. */
export function useFigures(run: Ref<number | null>) {
  const { figures, watched } = useJobs()
  watch(run, (id) => (watched.value = id), { immediate: true })
  onScopeDispose(() => (watched.value = null))
  return computed(() => (figures.value && figures.value.run === run.value ? figures.value : null))
}

/** A job's figures over the last half hour, asked for again every ten seconds. */
export function usePast(job: Ref<string>) {
  return useResource<Schemas['PastFigures']>(computed(() => (job.value ? `/jobs/${part(job.value)}/figures?since=30m&limit=180` : '')), 10_000)
}

const most = 3000

/** The newest rows of a step, newest first; those published since are asked for every second. */
export function useRows(run: Ref<number | null>, step: Ref<string>) {
  const path = computed(() => (run.value && step.value ? `/runs/${run.value}/steps/${encodeURIComponent(step.value)}/rows?limit=${most}` : ''))
  const first = useResource<Rows>(path)
  const rows = shallowRef<Row[]>([])
  /** What lies between rows and is not shown; empty for nothing. */
  const gap = ref('')
  let mark = '' // where the last answer stood
  let missed = 0
  watch(first.data, (d) => {
    rows.value = d?.rows ?? []
    mark = d?.mark ?? ''
    gap.value = ''
    missed = 0
  })

  let asking = false
  async function more() {
    if (asking || document.hidden) return
    if (!first.data.value) {
      void first.refresh()
      return
    }
    asking = true
    const asked = path.value
    try {
      const got = await ask<Rows>(`${asked}&after=${encodeURIComponent(mark)}`)
      if (asked !== path.value) return
      mark = got.mark
      if (got.anew) {
        rows.value = got.rows
        gap.value = 'The service was killed meanwhile: rows begin anew here. Sinks have them all.'
      } else if (got.rows.length) {
        rows.value = [...got.rows, ...rows.value].slice(0, most)
      }
      if (got.missed > 0) {
        missed += got.missed
        gap.value = `${count(missed)} rows came too fast to be kept for looking. Sinks have them all.`
      }
    } catch {
      // what is shown stays; the next second may fare better
    } finally {
      asking = false
    }
  }
  const timer = setInterval(() => void more(), 1000)
  onScopeDispose(() => clearInterval(timer))
  return { gap, rows, fields: computed(() => first.data.value?.fields ?? []), key: computed(() => first.data.value?.key ?? []), loading: first.loading, problem: first.problem }
}
