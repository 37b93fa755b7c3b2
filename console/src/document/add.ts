// What the menus of Build add to a document, and how it begins: with the names and fields that are there.
import type { Schemas } from '../http'
import { besideKinds, referenceKinds, sinkKinds, sourceKinds, stepKinds, type Kind } from './forms'
import { keyFields, matchOf, type Field } from './match'
import { readable } from './outline'
import { addEntry, freeAmong, freeName, namesOf, valueAt } from './splice'

/** What is there beside the document. */
export interface Around {
  /** The fields of a source, reference or step, as far as they are known. */
  fields: (name: string) => Field[]
  described: Schemas['Described'][]
  connections: { name: string; via: string }[]
}

/** The text with a new part, and that part as the map and the chips name it. */
export interface Added {
  text: string
  part: string
}

/** All that can be added: kinds by the menu that they stand in. */
export function menus(described: Schemas['Described'][]): { name: string; kinds: { name: string; about: string }[] }[] {
  return [
    { name: 'source', kinds: [...described.map((d) => ({ name: d.name, about: d.about || 'a described source' })), ...sourceKinds()] },
    { name: 'reference', kinds: referenceKinds() },
    { name: 'step', kinds: stepKinds },
    { name: 'sink', kinds: sinkKinds() },
    ...Object.entries(besideKinds).map(([name, kinds]) => ({ name, kinds })),
  ]
}

/** What a new part reads: the last step, or the first source. */
function last(text: string): string {
  const steps = namesOf(text, 'steps')
  if (steps.length) return readable(text).find((r) => r === steps.at(-1) || r.endsWith(` of ${steps.at(-1)!}`)) ?? steps.at(-1)!
  return namesOf(text, 'sources')[0] ?? 'SOURCE'
}

/** What a join pairs it with: a source that it is not, or itself where there is no other. */
function otherThan(text: string, name: string): string {
  return namesOf(text, 'sources').findLast((s) => s !== name) ?? name
}

/** What a merge reads: a part, and the first other one with the same fields; OTHER where there is none. */
function alike(text: string, name: string, fields: Around['fields']): string[] {
  const shape = (n: string) => fields(n).map((f) => `${f.name} ${f.type}`).sort().join()
  return [name, readable(text).find((r) => r !== name && !/^(late|rejects) of /.test(r) && shape(r) === shape(name)) ?? 'OTHER']
}

/** A connection of the kind that lines of a part are of: the document's own, or one of the service's. */
function connectionFor(text: string, lines: string, around: Around): string {
  const via = /^via: (\w+)/m.exec(lines)?.[1]
  const own = namesOf(text, 'connections').find((c) => valueAt(text, ['connections', c, 'via']) === via)
  return own ?? around.connections.find((c) => c.via === via)?.name ?? 'CONNECTION'
}

/** An entry of a section: its name, and lines two deeper. */
function entry(name: string, lines: string): string {
  return `${name}:\n${lines.split('\n').map((l) => `  ${l}`).join('\n')}`
}

/** A name within quotes where it has spaces that YAML would not take in a list, such as one of a branch. */
function quoted(name: string): string {
  return /^[\w ]+$/.test(name) ? name : `'${name}'`
}

/** Adds a part of a kind that a menu names; the text as it is where there is no such kind. */
export function add(text: string, menu: string, kind: string, around: Around): Added {
  const find = (list: Kind[] | undefined) => list?.find((k) => k.name === kind)
  if (menu in besideKinds) return addBeside(text, menu, find(besideKinds[menu]))
  if (menu === 'source') {
    const described = around.described.find((d) => d.name === kind)
    return described ? addDescribed(text, described) : addSource(text, find(sourceKinds()), around)
  }
  if (menu === 'step') return addStep(text, kind, find(stepKinds), around)
  return addEnd(text, menu, find(menu === 'sink' ? sinkKinds() : referenceKinds()), around)
}

/** A described source: its name as the mark of where it came from, and what it says. */
function addDescribed(text: string, d: Schemas['Described']): Added {
  const lines = d.text.trimEnd().split('\n')
  const indent = lines[0]!.search(/\S/)
  const free = freeName(text, lines[0]!.trim().replace(/:.*$/, ''))
  const body = [`${free}:`, `  described: ${d.name}`, ...lines.slice(1).map((l) => l.slice(Math.min(indent, l.search(/\S|$/))))]
  return { text: addEntry(text, 'sources', body.join('\n')), part: free }
}

function addSource(text: string, k: Kind | undefined, around: Around): Added {
  if (!k) return { text, part: '' }
  const free = freeName(text, 'events')
  const lines = k.lines.replace('CONNECTION', connectionFor(text, k.lines, around)).replace('TOPIC', free).replace('NAME', free)
  return { text: addEntry(text, 'sources', entry(free, lines)), part: free }
}

/** What stands beside the map: its name is free within its own section. */
function addBeside(text: string, menu: string, k: Kind | undefined): Added {
  if (!k) return { text, part: '' }
  const free = freeAmong(namesOf(text, `${menu}s`), k.name)
  return { text: addEntry(text, `${menu}s`, `${free}: ${k.lines.replace('TOPIC', `${jobOf(text)}.${free}`)}`), part: `${menu} ${free}` }
}

function jobOf(text: string): string {
  return String(valueAt(text, ['job']) ?? 'job')
}

function addStep(text: string, kind: string, k: Kind | undefined, around: Around): Added {
  if (!k) return { text, part: '' }
  const base = last(text)
  const fields = around.fields(base)
  const key = fields.find((f) => f.type === 'string')?.name ?? fields[0]?.name ?? 'key'
  const reference = namesOf(text, 'references').at(-1)
  const columns = reference ? Object.keys((valueAt(text, ['references', reference, 'fields']) ?? {}) as object) : []
  const other = otherThan(text, base)
  const keyed = reference ? keyFields(around.fields(reference), valueAt(text, ['references', reference, 'key'])) : []
  const [left, right] = matchOf(fields, kind === 'join' ? around.fields(other) : keyed) ?? [key, kind === 'join' ? key : (columns[0] ?? 'id')]
  const lines = k.lines
    .replaceAll('FROM', quoted(base))
    .replaceAll('REFERENCE', reference ?? 'REFERENCE')
    .replace('OTHER', quoted(other))
    .replace('LEFT', left)
    .replace('RIGHT', right)
    .replaceAll('ADDED', columns.filter((f) => f !== right).at(-1) ?? 'name')
    .replaceAll('KEY', key)
    .replace('NUMBER', fields.find((f) => ['double', 'int', 'decimal'].includes(f.type))?.name ?? '1')
    .replace('LIST', fields.find((f) => f.type.startsWith('list'))?.name ?? "'[1, 2]'")
    .replace('ALIKE', alike(text, base, around.fields).map(quoted).join(', '))
  const free = freeName(text, kind.replace(' ', '_'))
  return { text: addEntry(text, 'steps', entry(free, lines)), part: free }
}

/** A sink of the last step, or a reference. */
function addEnd(text: string, menu: string, k: Kind | undefined, around: Around): Added {
  if (!k) return { text, part: '' }
  const free = freeName(text, menu === 'sink' ? 'results' : 'details')
  const job = jobOf(text)
  const lines = k.lines
    .replace('FROM', quoted(last(text)))
    .replace('CONNECTION', connectionFor(text, k.lines, around))
    .replace('TOPIC', `${job}.${free}`)
    .replace('table: NAME', `table: ${job.replaceAll('-', '_')}_${free}`)
    .replace('NAME', `${job}-${free}`)
  return { text: addEntry(text, `${menu}s`, entry(free, lines)), part: menu === 'sink' ? `sink ${free}` : free }
}
