import { computed, type Ref } from 'vue'

import { valueAt } from '../document/splice'
import type { Schemas } from '../http'
import { useResource } from './resource'
import { topics } from './streams'

/** What the events of the chosen source were seen to have: of topics of connections, from their newest events. */
export function useFound(text: Ref<string>, part: Ref<string>) {
  const stream = computed(() => {
    if (!part.value.startsWith('source ')) return ''
    const w = valueAt(text.value, ['sources', part.value.slice(7), 'with']) as { connection?: unknown; topic?: unknown } | undefined
    return typeof w?.connection === 'string' && typeof w.topic === 'string' && !w.topic.includes('${') ? topics.events(w.connection, w.topic, 'newest', 50) : ''
  })
  const peek = useResource<Schemas['Peek']>(stream)
  return computed(() => (stream.value ? (peek.data.value?.inference?.fields ?? []) : []))
}
