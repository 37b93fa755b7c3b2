import { onScopeDispose, shallowRef, watch, type Ref } from 'vue'

import { address, ask, asProblem, type Problem } from '../http'

/**
 * Listens to server-sent events of an address for as long as the scope lives. When the stream breaks it
 * is begun again; meanwhile problem says why. A page that nobody sees listens to nothing: browsers hold
 * only six connections to one server, for all pages together.
 */
export function useStream(path: Ref<string>, on: Record<string, (data: unknown) => void>) {
  const problem = shallowRef<Problem | null>(null)
  let source: EventSource | null = null
  let again: ReturnType<typeof setTimeout> | undefined

  function close() {
    clearTimeout(again)
    source?.close()
    source = null
  }

  function begin() {
    close()
    if (!path.value || document.hidden) return
    const s = new EventSource(address(path.value))
    source = s
    s.onopen = () => (problem.value = null)
    for (const [name, take] of Object.entries(on)) {
      s.addEventListener(name, (e) => take(JSON.parse((e as MessageEvent<string>).data)))
    }
    s.onerror = () => {
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
  document.addEventListener('visibilitychange', begin)
  window.addEventListener('pagehide', close)
  window.addEventListener('pageshow', begin)
  onScopeDispose(() => {
    close()
    document.removeEventListener('visibilitychange', begin)
    window.removeEventListener('pagehide', close)
    window.removeEventListener('pageshow', begin)
  })
  return { problem }
}
