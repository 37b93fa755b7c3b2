// Which settings the forms of a source, step or sink have, and what is added for each kind of step.
import { connector, kinds, type Described } from '../use/kinds'
import { kindOf } from './outline'
import type { Path } from './splice'

export interface Setting {
  label: string
  path: Path
  /** What it may look like. */
  hint: string
  /** A list of names, shown with commas between. */
  list?: boolean
  /** One of these. */
  choice?: string[]
  /** Inputs of the part: sources, steps and their parts. */
  from?: boolean
  /** A reference of the document. */
  reference?: boolean
}

/** A mapping of names to expressions, each of which has a line in the form. */
export interface Named {
  label: string
  path: Path
  name: string
  expression: string
}

export interface Form {
  settings: Setting[]
  named: Named[]
}

const from: Setting = { label: 'from', path: ['from'], hint: 'a source or step', from: true }
const key: Setting = { label: 'key', path: ['key'], hint: 'fields, with commas between', list: true }

/** The lines of a form for a connector's settings; groups and the like are written in the text. */
function described(list: Described[] | null | undefined): Setting[] {
  return (list ?? []).flatMap((s): Setting[] => {
    const line: Setting = { label: s.label, path: s.beside ? [s.name] : ['with', s.name], hint: s.hint || s.default || s.about }
    switch (s.type) {
      case 'group':
      case 'named':
        return []
      case 'bool':
        return [{ ...line, choice: ['true', 'false'] }]
      case 'choice':
        return [{ ...line, choice: s.choices }]
      case 'names':
      case 'texts':
        return [{ ...line, list: true }]
    }
    return [line]
  })
}

const looked: Setting[] = [
  { label: 'reference', path: ['lookup', 'reference'], hint: 'a reference', reference: true },
  { label: 'where it is missing', path: ['lookup', 'missing'], hint: 'keep', choice: ['keep', 'drop', 'reject'] },
]

/** The form with pairs of names, each of which may also stand as a list of names that both have. */
function paired(value: Record<string, unknown>, form: Form, pairs: Named[]): Form {
  for (const n of pairs) {
    const at = n.path.reduce<unknown>((v, k) => (typeof v === 'object' && v !== null ? (v as Record<string, unknown>)[String(k)] : undefined), value)
    if (Array.isArray(at)) form.settings.push({ label: n.label.replace(/ \(.*/, ''), path: n.path, hint: 'names, with commas between', list: true })
    else form.named.push(n)
  }
  return form
}
const lookedPairs: Named[] = [
  { label: 'equal fields (row: reference)', path: ['lookup', 'match'], name: 'field', expression: 'field' },
  { label: 'adds (name: column)', path: ['lookup', 'add'], name: 'name', expression: 'column' },
]

/** The form of a part; kind is source, reference, step or sink, and value what stands there. */
export function formOf(kind: string, value: Record<string, unknown>): Form {
  if (kind === 'source') {
    const own = described(connector(value.via)?.source)
    const settings: Setting[] = [
      ...own.filter((s) => s.path[0] === 'with'),
      { label: 'event time', path: ['event_time'], hint: connector(value.via)?.stored ? 'a field, stored or arrival' : 'a field or arrival' },
      { label: 'margin', path: ['watermark', 'margin'], hint: '5s' },
      { label: 'idle', path: ['watermark', 'idle'], hint: '1m' },
      { label: 'in silence', path: ['watermark', 'silence'], hint: 'hold', choice: ['hold', 'advance'] },
      ...own.filter((s) => s.path[0] !== 'with'),
    ]
    return { settings, named: [] }
  }
  if (kind === 'reference') {
    if ('from' in value) return paired(value, { settings: [{ label: 'rows of', path: ['from'], hint: 'a reference', reference: true }, looked[0]!, { ...looked[1]!, choice: ['keep', 'drop'] }], named: [] }, lookedPairs)
    const settings: Setting[] = [
      ...described(connector(value.via)?.reference).filter((s) => s.path[0] === 'with'),
      { label: 'key', path: ['key'], hint: 'fields, with commas between', list: true },
      ...(connector(value.via)?.stored ? [] : [{ label: 'read anew every', path: ['refresh'], hint: '1m; empty for once' }]),
      { label: 'memory at most', path: ['limit'], hint: '256MiB' },
    ]
    return { settings, named: [{ label: 'fields (name: type)', path: ['fields'], name: 'field', expression: 'string' }] }
  }
  if (kind === 'sink') return { settings: [from, ...described(connector(value.via)?.sink)], named: [] }
  switch (kindOf(value)) {
    case 'window': {
      const w = (value.window ?? {}) as Record<string, unknown>
      const settings: Setting[] = [from, key]
      if ('tumbling' in w) settings.push({ label: 'window of', path: ['window', 'tumbling'], hint: '1m' })
      if ('sliding' in w) settings.push({ label: 'window of', path: ['window', 'sliding'], hint: '10m' }, { label: 'every', path: ['window', 'by'], hint: '1m' })
      if ('session' in w) settings.push({ label: 'gap', path: ['window', 'session'], hint: '90s' }, { label: 'longest', path: ['window', 'longest'], hint: '12h' })
      if ('look_back' in w) settings.push({ label: 'look back', path: ['window', 'look_back'], hint: '10s' })
      settings.push(
        { label: 'accept late rows for', path: ['late', 'accept'], hint: '1m' },
        { label: 'publish', path: ['publish'], hint: 'settled', choice: ['settled', 'revised'] },
        { label: 'having', path: ['having'], hint: 'a condition on the results' },
      )
      return { settings, named: [{ label: 'measures', path: ['measures'], name: 'measure', expression: 'count()' }] }
    }
    case 'deduplicate':
      return { settings: [from, { label: 'the same when', path: ['deduplicate', 'key'], hint: 'fields, with commas between', list: true }, { label: 'within', path: ['deduplicate', 'within'], hint: '10m' }], named: [] }
    case 'join':
      return paired(value, {
        settings: [
          { ...from, label: 'left', path: ['join', 'left'] },
          { ...from, label: 'right', path: ['join', 'right'] },
          { label: 'within', path: ['join', 'within'], hint: '10s' },
          { label: 'kind', path: ['join', 'kind'], hint: 'inner', choice: ['inner', 'left', 'outer'] },
          { label: 'accept late rows for', path: ['join', 'accept'], hint: '5s' },
          { label: 'where', path: ['where'], hint: 'a condition on the pairs' },
        ],
        named: [],
      }, [{ label: 'equal fields (left: right)', path: ['join', 'match'], name: 'field', expression: 'field' }])
    case 'lookup':
      return paired(value, { settings: [from, ...looked, { label: 'as of', path: ['lookup', 'as_of'], hint: 'latest', choice: ['latest', 'event_time'] }, { label: 'where', path: ['where'], hint: 'a condition on the result' }], named: [] }, [
        ...lookedPairs,
        { label: 'set', path: ['set'], name: 'field', expression: '1' },
      ])
    case 'split':
      return { settings: [from, { label: 'first only', path: ['first_only'], hint: 'false', choice: ['true', 'false'] }], named: [{ label: 'branches', path: ['split'], name: 'part', expression: 'true' }] }
    case 'absent':
      return { settings: [from, key, { label: 'silent for', path: ['absent'], hint: '10m' }], named: [] }
    case 'remember':
      return { settings: [from, key, { label: 'forget after', path: ['forget'], hint: '1h' }, { label: 'where', path: ['where'], hint: 'a condition' }], named: [{ label: 'set', path: ['set'], name: 'field', expression: 'true' }] }
    case 'rank':
      return { settings: [from, { label: 'by', path: ['rank', 'by'], hint: 'an expression' }, { label: 'keep', path: ['rank', 'keep'], hint: '3' }], named: [] }
    case 'expand':
      return { settings: [from], named: [{ label: 'element', path: ['expand'], name: 'item', expression: '' }] }
  }
  return {
    settings: [from, { label: 'where', path: ['where'], hint: "tonnes > 0.5 && crane != ''" }, { label: 'without', path: ['without'], hint: 'fields, with commas between', list: true }],
    named: [{ label: 'set', path: ['set'], name: 'field', expression: '1' }],
  }
}

export interface Kind {
  name: string
  about: string
  /** Its lines below the name; FROM and KEY are filled in. */
  lines: string
}

export const stepKinds: Kind[] = [
  { name: 'filter', about: 'keep the rows that meet a condition', lines: "from: FROM\nwhere: 'true'" },
  { name: 'compute', about: 'add fields worked out of others', lines: 'from: FROM\nset: {field: 1}' },
  { name: 'deduplicate', about: 'let the first row of each key pass', lines: 'from: FROM\ndeduplicate: {key: [KEY], within: 10m}' },
  { name: 'tumbling', about: 'windows one after another', lines: 'from: FROM\nkey: [KEY]\nwindow: {tumbling: 1m}\nmeasures:\n  events: count()' },
  { name: 'sliding', about: 'overlapping windows, renewed on a beat', lines: 'from: FROM\nkey: [KEY]\nwindow: {sliding: 10m, by: 1m}\nmeasures:\n  events: count()' },
  { name: 'session', about: 'bursts of rows with silence between', lines: 'from: FROM\nkey: [KEY]\nwindow: {session: 90s, longest: 12h}\nmeasures:\n  events: count()' },
  { name: 'look back', about: 'for each row, measures over the span before it', lines: 'from: FROM\nkey: [KEY]\nwindow: {look_back: 10s}\nmeasures:\n  events: count()' },
  { name: 'join', about: 'pair the rows of two inputs that have a field in common', lines: 'join: {left: FROM, right: OTHER, match: {LEFT: RIGHT}, within: 10s}' },
  { name: 'lookup', about: 'add columns of a reference to each row', lines: 'from: FROM\nlookup: {reference: REFERENCE, match: {LEFT: RIGHT}, add: {ADDED: ADDED}}' },
  { name: 'absent', about: 'tell when a key has had no row for a while', lines: 'from: FROM\nkey: [KEY]\nabsent: 10m' },
  { name: 'split', about: 'send rows to parts by conditions', lines: "from: FROM\nsplit: {chosen: 'true'}" },
]

/** What references can be, by the kinds of connectors. */
export function referenceKinds(): Kind[] {
  return kinds.value.connectors.filter((k) => k.reference && k.reference_example.name).map((k) => ({ ...k.reference_example }))
}

/** What sinks can be, by the kinds of connectors. */
export function sinkKinds(): Kind[] {
  return kinds.value.connectors.filter((k) => k.sink && k.sink_example.name).map((k) => ({ ...k.sink_example, lines: `from: FROM\n${k.sink_example.lines}` }))
}
