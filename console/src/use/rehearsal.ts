import { computed, ref, watch } from 'vue'

import { count } from '../format'
import { part, post, type Schemas } from '../http'
import { useAsked } from './asked'
import { useDraft } from './draft'

/** What comes of the draft on a sample, of its examples, and how late its events come. */
export function useRehearsal() {
  const { text, checked } = useDraft()
  const sampleRows = ref(1000)
  const sampleFrom = ref('newest')
  const rehearsing = useAsked(() => post<Schemas['Rehearsal']>('/documents/rehearse', { document: text.value, rows: sampleRows.value, from: sampleFrom.value }))
  const examples = useAsked(() => post<Schemas['Examples']>('/documents/examples', { document: text.value }))
  const late = useAsked((source: string) => post<Schemas['LatenessOf']>(`/documents/lateness?source=${part(source)}`, { document: text.value }))
  function rehearse() {
    void rehearsing.ask()
  }
  function runExamples() {
    void examples.ask()
  }
  watch([sampleRows, sampleFrom], () => rehearsing.data.value && rehearse())
  // A rehearsal follows the text: whoever changes it sees what comes of it.
  let again: ReturnType<typeof setTimeout> | undefined
  watch(checked, (c) => {
    clearTimeout(again)
    if (!c || c.faults.length) return
    again = setTimeout(() => {
      rehearse()
      if (text.value.includes('examples:')) runExamples()
    }, 400)
  }, { immediate: true })
  const rehearsed = computed(() => {
    const r = rehearsing.data.value
    return r ? `${count(r.sources.reduce((n, s) => n + s.events, 0))} events in ${r.seconds.toFixed(2)} s · nothing delivered` : ''
  })
  const examplesLabel = computed(() => {
    const items = examples.data.value?.items
    return items?.length ? `Examples ${items.filter((e) => !e.differences.length).length} of ${items.length}` : 'Examples'
  })
  return { rehearsing, examples, late, sampleRows, sampleFrom, rehearse, runExamples, rehearsed, examplesLabel }
}
