import { ref, shallowRef } from 'vue'

import { asProblem, type Problem } from '../http'

/** Something that is asked for on demand: its answer, whether it is awaited, and why it failed. */
export function useAsked<A extends unknown[], T>(what: (...args: A) => Promise<T>) {
  const data = shallowRef<T | null>(null)
  const busy = ref(false)
  const problem = shallowRef<Problem | null>(null)
  let last = 0
  async function ask(...args: A): Promise<T | null> {
    const n = ++last
    busy.value = true
    problem.value = null
    try {
      const got = await what(...args)
      if (n === last) data.value = got
      return got
    } catch (e) {
      if (n === last) problem.value = asProblem(e)
      return null
    } finally {
      if (n === last) busy.value = false
    }
  }
  return { data, busy, problem, ask }
}
