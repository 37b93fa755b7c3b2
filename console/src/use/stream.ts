import { onScopeDispose, shallowRef, watch, type Ref } from 'vue'

import type { paths } from '../api'
import { address, ask, asProblem, type Problem } from '../http'

/** The addresses that give server-sent events, as the OpenAPI page has them. */
type Streaming = { [P in keyof paths]: paths[P] extends { get: { responses: { 200: { content: { 'text/event-stream': infer E } } } } } ? E : never }

/** What takes each kind of event of an address. */
export type Takes<P extends keyof paths> = Streaming[P] extends infer E ? { [N in E extends { event: infer X extends string } ? X : never]?: (data: Extract<E, { event: N }> extends { data: infer D } ? D : never) => void } : never

/**
 * Listens to server-sent events of an address for as long as the scope lives. When the stream breaks it
 * is begun again; meanwhile problem says why. A page that nobody sees listens to nothing: browsers hold
 * only six connections to one server, for all pages together. _of is the address as the OpenAPI page has it, which says what its events are.
 */
export function useStream<P extends keyof paths>(_of: P, path: Ref<string>, on: Takes<P>) {
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
    for (const [name, take] of Object.entries(on as Record<string, (data: unknown) => void>)) {
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
