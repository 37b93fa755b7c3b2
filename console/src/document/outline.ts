// What a document's text is made of, also where it has faults: enough to draw its map.
import type { Schemas } from '../http'
import { parse, plain } from './splice'

type Any = Record<string, unknown>

function entries(v: unknown): [string, Any][] {
  if (typeof v !== 'object' || v === null || Array.isArray(v)) return []
  return Object.entries(v).map(([k, x]) => [k, typeof x === 'object' && x !== null ? (x as Any) : {}])
}

function from(v: unknown): string {
  if (Array.isArray(v)) return v.map(String).join(', ')
  return typeof v === 'string' ? v : ''
}

/** What a step reads; of a join both sides. */
function reads(step: Any): string {
  const j = step.join as Any | undefined
  return typeof j === 'object' && j !== null ? [from(j.left), from(j.right)].filter(Boolean).join(', ') : from(step.from)
}

/** The references that a step looks up in. */
function looksUp(step: Any): string[] {
  const r = (step.lookup as Any | undefined)?.reference
  return typeof r === 'string' ? [r] : []
}

/** What a step does, told by its fields. */
export function kindOf(step: Any): string {
  for (const k of ['split', 'expand', 'join', 'lookup', 'deduplicate', 'remember', 'absent', 'rank']) if (k in step) return k
  if ('measures' in step || 'window' in step) return 'window'
  if ('where' in step && !('set' in step)) return 'filter'
  if ('set' in step || 'only' in step || 'without' in step) return 'where' in step ? 'filter and compute' : 'compute'
  return 'pass on'
}

function windowText(w: unknown): string {
  if (typeof w !== 'object' || w === null) return 'the whole'
  return Object.entries(w)
    .map(([k, v]) => `${k.replace('_', ' ')} ${String(v)}`)
    .join(', ')
}

function does(step: Any): string {
  const kind = kindOf(step)
  if (kind === 'window') return windowText(step.window)
  if (kind === 'filter') return String(step.where)
  return kind
}

function place(v: Any): string {
  const w = (typeof v.with === 'object' && v.with !== null ? v.with : {}) as Any
  return String(w.topic ?? w.path ?? w.files ?? v.via ?? '')
}

/** A plan of the text as it stands; null where its YAML does not read at all. */
export function outline(text: string): Schemas['Plan'] | null {
  let doc: Any
  try {
    const d = parse(text)
    doc = plain(d.contents) as Any
  } catch {
    return null
  }
  if (typeof doc !== 'object' || doc === null) return null
  const sources = entries(doc.sources).map(([name, s]) => ({
    name, reads: place(s), fields: Object.keys((s.fields as Any | undefined) ?? {}), event_time: String(s.event_time ?? 'none'), watermark: '',
  }))
  const references = entries(doc.references).map(([name, r]) => {
    const looked = (r.lookup as Any | undefined)?.reference
    return { name, reads: r.via ? place(r) : 'made of others', fields: Object.keys((r.fields as Any | undefined) ?? {}), key: Array.isArray(r.key) ? r.key.map(String) : [], of: [r.from, looked].filter((x) => typeof x === 'string'), refresh: '', limit: '' }
  })
  const steps = entries(doc.steps).map(([name, s]) => ({
    name, kind: kindOf(s), from: reads(s), looks: looksUp(s), does: [does(s)], fields: [], key: Array.isArray(s.key) ? s.key.map(String) : [], exchange: 'none', bound: '', state: 'key' in s || 'window' in s || 'join' in s ? 'kept' : 'none', delay: '', parts: [name], overlap: false, levels: [],
  }))
  const sinks = entries(doc.sinks).map(([name, s]) => ({ name, from: from(s.from), writes: place(s), makes: '', fields: [], delivery: '', readable: false }))
  return { job: String(doc.job ?? ''), sources, references, steps, sinks, spread: null }
}

/** The names of a document's references. */
export function referencesOf(text: string): string[] {
  try {
    return entries((plain(parse(text).contents) as Any)?.references).map(([name]) => name)
  } catch {
    return []
  }
}

/** All that a step or sink may read: sources, steps, and their parts. */
export function readable(text: string): string[] {
  let doc: Any
  try {
    doc = plain(parse(text).contents) as Any
  } catch {
    return []
  }
  const out: string[] = []
  for (const [name] of entries(doc?.sources)) out.push(name)
  for (const [name, s] of entries(doc?.steps)) {
    const kind = kindOf(s)
    if (kind === 'split') {
      for (const part of Object.keys((s.split as Any | undefined) ?? {})) out.push(`${part} of ${name}`)
      out.push(`rest of ${name}`)
    } else out.push(name)
    if (['window', 'join', 'remember', 'absent', 'deduplicate'].includes(kind)) out.push(`late of ${name}`)
  }
  for (const [name] of [...entries(doc?.sources), ...entries(doc?.steps)]) out.push(`rejects of ${name}`)
  return out
}
