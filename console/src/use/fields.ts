import { shallowRef, watch } from 'vue'

import type { Schemas } from '../http'
import { partAt, useDraft } from './draft'

/** The fields of the draft's parts, as the last document without mistakes had them. */
export function useFields() {
  const { checked, plan } = useDraft()
  function fieldsFrom(list: string[]): { name: string; type: string }[] {
    return list.map((f) => (f.includes(' ') ? { name: f.slice(0, f.indexOf(' ')), type: f.slice(f.indexOf(' ') + 1) } : { name: f, type: '' }))
  }
  // Completion needs them while a document is being written.
  const lastPlan = shallowRef<Schemas['Plan'] | null>(null)
  watch(checked, (c) => c?.plan && (lastPlan.value = c.plan), { immediate: true })
  function fieldsOfPlan(name: string): { name: string; type: string }[] {
    const p = lastPlan.value
    const found = p?.sources.find((s) => s.name === name) ?? p?.references.find((r) => r.name === name) ?? p?.steps.find((s) => s.name === name || name.endsWith(` of ${s.name}`))
    return fieldsFrom(found?.fields ?? [])
  }
  function fieldsAt(n: number): { name: string; type: string }[] {
    const p = partAt(checked.value, n)
    const name = p.slice(p.indexOf(' ') + 1)
    if (p.startsWith('source ') || p.startsWith('reference ')) return fieldsOfPlan(name)
    const of = p.startsWith('sink ') ? plan.value?.sinks.find((s) => s.name === name)?.from : plan.value?.steps.find((s) => s.name === name)?.from
    return (of ?? '').split(', ').flatMap(fieldsOfPlan)
  }
  return { fieldsFrom, fieldsOfPlan, fieldsAt }
}
