import { onScopeDispose, ref, shallowRef, watch, type Ref } from 'vue'

import { ask, asProblem, type Problem } from '../http'

/**
 * Holds what an address answers: data, loading, problem, refresh. It asks again every so many
 * milliseconds where every is given, and when the address changes; an empty address asks nothing.
 */
export function useResource<T>(path: Ref<string>, every = 0) {
  const data = shallowRef<T | null>(null)
  const loading = ref(false)
  const problem = shallowRef<Problem | null>(null)
  let timer: ReturnType<typeof setInterval> | undefined

  async function refresh() {
    const asked = path.value
    if (!asked) return
    loading.value = data.value === null
    try {
      const got = await ask<T>(asked)
      if (asked !== path.value) return
      data.value = got
      problem.value = null
    } catch (e) {
      if (asked === path.value) problem.value = asProblem(e)
    } finally {
      loading.value = false
    }
  }

  watch(
    path,
    () => {
      data.value = null
      problem.value = null
      void refresh()
    },
    { immediate: true },
  )
  if (every > 0) timer = setInterval(() => void refresh(), every)
  onScopeDispose(() => clearInterval(timer))
  return { data, loading, problem, refresh }
}
