import { computed, onScopeDispose, ref, shallowRef, watch, type Ref } from 'vue'

import { ask, asProblem, part, type Problem, type Schemas } from '../http'

export type Past = Schemas['PastFigures']
export type PastLine = Schemas['PastLine']

/** What of the past is looked at: the newest stretch, or one that was chosen by dragging. */
export type Range = { back: string } | { since: number; until: number }

export const stretches = [
  { name: '15 min', back: '15m', every: 2000 },
  { name: '3 h', back: '3h', every: 10_000 },
  { name: '24 h', back: '24h', every: 60_000 },
  { name: '7 days', back: '168h', every: 60_000 },
  { name: '30 days', back: '720h', every: 60_000 },
]

function address(job: string, range: Range, names: string[]): string {
  const q = new URLSearchParams()
  if ('back' in range) q.set('since', range.back)
  else {
    q.set('since', new Date(range.since).toISOString())
    q.set('until', new Date(range.until).toISOString())
  }
  for (const n of names) q.append('name', n)
  return `/jobs/${part(job)}/figures?${q.toString()}`
}

/** Figures of several jobs over time, by job; asked for again as new points come. Without a job nothing is asked. */
export function usePasts(jobs: Ref<string[]>, range: Ref<Range>, names: Ref<string[]>) {
  const data = shallowRef<Map<string, Past>>(new Map())
  const problem = shallowRef<Problem | null>(null)
  const loading = ref(true)
  const asked = computed(() => jobs.value.map((j) => address(j, range.value, names.value)))
  let timer: ReturnType<typeof setTimeout> | undefined

  async function refresh() {
    clearTimeout(timer)
    const now = asked.value.join()
    if (!now) return
    try {
      const all = await Promise.all(asked.value.map((a) => ask<Past>(a)))
      if (now !== asked.value.join()) return
      data.value = new Map(jobs.value.map((j, i) => [j, all[i] as Past]))
      problem.value = null
    } catch (e) {
      if (now === asked.value.join()) problem.value = asProblem(e)
    } finally {
      loading.value = false
    }
    const r = range.value
    if ('back' in r) timer = setTimeout(() => void again(), stretches.find((s) => s.back === r.back)?.every ?? 10_000)
  }
  async function again() {
    if (document.hidden) timer = setTimeout(() => void again(), 1000)
    else await refresh()
  }
  watch(asked, () => void refresh(), { immediate: true })
  onScopeDispose(() => clearTimeout(timer))
  return { data, loading, problem }
}

/** The points of a line as charts take them, with a break where the job did not run: no line is drawn over what nobody knows. */
export function broken(past: Past, values: (number | null)[]): [number, number | null][] {
  const out: [number, number | null][] = []
  past.at.forEach((t, i) => {
    const before = past.at[i - 1]
    if (before !== undefined && t - before > 3000 * past.step_seconds) out.push([before + 1000 * past.step_seconds, null])
    out.push([t, values[i] ?? null])
  })
  return out
}

/** The figures of a job that are kept over time. */
export async function figureNames(job: string): Promise<Schemas['FigureName'][]> {
  return (await ask<{ items: Schemas['FigureName'][] }>(`/jobs/${part(job)}/figures/names`)).items
}
