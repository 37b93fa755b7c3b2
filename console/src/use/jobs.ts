import { computed, inject, provide, ref, shallowRef, type InjectionKey } from 'vue'

import { post, type Schemas } from '../http'
import { useStream } from './stream'

export type Job = Schemas['Job']
export type Status = Schemas['Status']
export type Figures = Schemas['Figures']

function listen() {
  const jobs = shallowRef<Job[] | null>(null)
  const status = shallowRef<Status | null>(null)
  const nodes = shallowRef<Schemas['Node'][] | null>(null)
  const figures = shallowRef<Figures | null>(null)
  const watched = ref<number | null>(null) // the run whose figures are wanted too
  const path = computed(() => (watched.value ? `/jobs?run=${watched.value}` : '/jobs'))
  const { problem } = useStream('/jobs', path, {
    jobs: (data) => {
      jobs.value = data.items
      status.value = data.status
      nodes.value = data.nodes
    },
    metrics: (data) => (figures.value = data),
  })
  return { jobs, status, nodes, figures, watched, problem, loading: computed(() => jobs.value === null && problem.value === null) }
}

const key: InjectionKey<ReturnType<typeof listen>> = Symbol('jobs')

/** All jobs, the service's own status, and the figures of one run, live: the page's one stream. */
export function provideJobs() {
  const all = listen()
  provide(key, all)
  return all
}

export function useJobs() {
  const all = inject(key)
  if (!all) throw new Error('useJobs outside App')
  return all
}

const going = ['starting', 'running', 'resuming', 'stopping', 'draining']

export function goesOn(status: string): boolean {
  return going.includes(status)
}

export function startJob(name: string) {
  return post<Schemas['Started']>(`/jobs/${encodeURIComponent(name)}/runs`)
}

/** Ends the sources of a job's run where they stand, and lets it finish. */
export function drainJob(name: string) {
  return post<Schemas['Run']>(`/jobs/${encodeURIComponent(name)}/drain`)
}

/** Lets a running job go on with so many portions of each part. */
export function respreadJob(name: string, portions: number) {
  return post<Schemas['Started']>(`/jobs/${encodeURIComponent(name)}/respread`, { portions })
}

export function stopJob(name: string) {
  return post<Schemas['Run']>(`/jobs/${encodeURIComponent(name)}/stop`)
}
