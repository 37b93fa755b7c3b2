<template>
  <ElDropdown v-for="m in menus" :key="m.name" trigger="click" size="small" :teleported="false" @command="(k: string) => add(m.name, k)">
    <button type="button" class="add">{{ m.name }}</button>
    <template #dropdown>
      <ElDropdownMenu>
        <ElDropdownItem v-for="k in m.kinds" :key="k.name" :command="k.name"><strong class="named">{{ k.name }}</strong><span class="soft">{{ k.about }}</span></ElDropdownItem>
        <ElDropdownItem v-if="!m.kinds.length" disabled>{{ m.none }}</ElDropdownItem>
      </ElDropdownMenu>
    </template>
  </ElDropdown>
</template>

<script setup lang="ts">
import { ElDropdown, ElDropdownItem, ElDropdownMenu } from 'element-plus'
import { computed, ref } from 'vue'

import { referenceKinds, sinkKinds, stepKinds } from '../document/forms'
import { keyFields, matchOf } from '../document/match'
import { readable } from '../document/outline'
import { addEntry, freeName, namesOf, valueAt } from '../document/splice'
import type { ListOf } from '../http'
import { loadKinds } from '../use/kinds'
import { useResource } from '../use/resource'

const props = defineProps<{
  text: string
  /** The fields of a source or step, as far as they are known. */
  fields: (name: string) => { name: string; type: string }[]
}>()
const emit = defineEmits<{
  change: [text: string]
  /** The part that was added, as the map names it. */
  choose: [name: string]
}>()

void loadKinds()
const describedSources = useResource<ListOf<'Described'>>(ref('/sources'))
const menus = computed(() => [
  { name: 'source', kinds: (describedSources.data.value?.items ?? []).map((d) => ({ name: d.name, about: d.about })), none: 'No source is described yet: look at a topic in Streams and keep it as a described source.' },
  { name: 'reference', kinds: referenceKinds(), none: '' },
  { name: 'step', kinds: stepKinds, none: '' },
  { name: 'sink', kinds: sinkKinds(), none: '' },
])

/** What a new part reads: the last step, or the first source. */
function last(): string {
  const steps = namesOf(props.text, 'steps')
  if (steps.length) return readable(props.text).find((r) => r === steps.at(-1) || r.endsWith(` of ${steps.at(-1)!}`)) ?? steps.at(-1)!
  return namesOf(props.text, 'sources')[0] ?? 'SOURCE'
}
/** What a join pairs it with: a source that it is not, or itself where there is no other. */
function otherThan(name: string): string {
  return namesOf(props.text, 'sources').findLast((s) => s !== name) ?? name
}
function add(kind: string, name: string) {
  const base = last()
  const fields = props.fields(base)
  const key = fields.find((f) => f.type === 'string')?.name ?? fields[0]?.name ?? 'key'
  if (kind === 'source') {
    const d = describedSources.data.value?.items.find((x) => x.name === name)
    if (!d) return
    const lines = d.text.trimEnd().split('\n')
    const indent = lines[0]!.search(/\S/)
    const own = lines[0]!.trim().replace(/:.*$/, '')
    const free = freeName(props.text, own)
    const body = [`${free}:`, `  described: ${d.name}`, ...lines.slice(1).map((l) => l.slice(Math.min(indent, l.search(/\S|$/))))].join('\n')
    emit('change', addEntry(props.text, 'sources', body))
    emit('choose', free)
    return
  }
  const k = { step: stepKinds, reference: referenceKinds(), sink: sinkKinds() }[kind]?.find((x) => x.name === name)
  if (!k) return
  const free = freeName(props.text, kind === 'sink' ? 'results' : kind === 'reference' ? 'details' : name.replace(' ', '_'))
  const job = String(valueAt(props.text, ['job']) ?? 'job')
  const first = namesOf(props.text, 'sources')[0] ?? ''
  const connection = String(valueAt(props.text, ['sources', first, 'with', 'connection']) ?? 'CONNECTION')
  const reference = namesOf(props.text, 'references').at(-1)
  const own = reference ? Object.keys((valueAt(props.text, ['references', reference, 'fields']) ?? {}) as object) : []
  const other = otherThan(base)
  const keyed = reference ? keyFields(props.fields(reference), valueAt(props.text, ['references', reference, 'key'])) : []
  const [left, right] = matchOf(fields, name === 'join' ? props.fields(other) : keyed) ?? [key, name === 'join' ? key : (own[0] ?? 'id')]
  const body = k.lines
    .replaceAll('FROM', /^[\w ]+$/.test(base) ? base : `'${base}'`)
    .replaceAll('REFERENCE', reference ?? 'REFERENCE')
    .replace('OTHER', /^[\w ]+$/.test(other) ? other : `'${other}'`)
    .replace('LEFT', left)
    .replace('RIGHT', right)
    .replaceAll('ADDED', own.filter((f) => f !== right).at(-1) ?? 'name')
    .replaceAll('KEY', key)
    .replace('CONNECTION', connection)
    .replace('TOPIC', `${job}.${free}`)
    .replace('NAME', `${job}-${free}`)
  emit('change', addEntry(props.text, `${kind}s`, `${free}:\n${body.split('\n').map((l) => `  ${l}`).join('\n')}`))
  emit('choose', kind === 'sink' ? `sink ${free}` : free)
}
</script>

<style scoped>
.named { margin-right: 8px; }
.add { border: 0; background: none; color: var(--sea); font: inherit; cursor: pointer; padding: 0 2px; text-decoration: underline; }
</style>
