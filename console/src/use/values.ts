import { computed, watch, type Ref } from 'vue'

import { part, post, type Schemas } from '../http'
import { useAsked } from './asked'
import { useResource } from './resource'

/** The named constants of a version of a job's document; none for version 0. */
export function useValues(job: Ref<string>, version: Ref<number>) {
  const document = useResource<Schemas['Version']>(computed(() => (version.value ? `/jobs/${part(job.value)}/versions/${version.value}` : '')))
  const checked = useAsked((text: string) => post<Schemas['Checked']>('/documents/check', { document: text }))
  watch(document.data, (d) => d?.document && void checked.ask(d.document))
  return computed(() => checked.data.value?.values ?? [])
}
