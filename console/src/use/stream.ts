import { onScopeDispose, ref, shallowRef, watch, type Ref } from 'vue'

import { address, ask, asProblem, type Problem } from '../http'

/**
 * Listens to server-sent events of an address for as long as the scope lives. An empty address listens
 * to nothing. When the stream breaks it is begun again; meanwhile problem says why.
 */
export function useStream(path: Ref<string>, on: Record<string, (data: unknown) => void>) {
  const open = ref(false)
  const problem = shallowRef<Problem | null>(null)
  let source: EventSource | null = null
  let again: ReturnType<typeof setTimeout> | undefined
  let ended = false

  function close() {
    clearTimeout(again)
    source?.close()
    source = null
    open.value = false
  }

  function begin() {
    close()
    ended = false
    if (!path.value) return
    const s = new EventSource(address(path.value))
    source = s
    s.onopen = () => {
      open.value = true
      problem.value = null
    }
    for (const [name, take] of Object.entries(on)) {
      s.addEventListener(name, (e) => take(JSON.parse((e as MessageEvent<string>).data)))
    }
    s.addEventListener('end', () => {
      ended = true
      close()
    })
    s.onerror = () => {
      if (ended) return
      close()
      void explain()
      again = setTimeout(begin, 1500)
    }
  }

  // The browser does not say why a stream failed; the same address asked plainly does.
  async function explain() {
    try {
      await ask(path.value)
      problem.value = null
    } catch (e) {
      problem.value = asProblem(e)
    }
  }

  watch(path, begin, { immediate: true })
  onScopeDispose(close)
  return { open, problem }
}
