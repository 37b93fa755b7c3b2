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
  /** What each choice writes at the path, where that is not the choice itself; null takes out what stands there. */
  writes?: Record<string, string | null>
  /** Which choice stands there, where choices are written otherwise. */
  is?: string
}

/** A mapping of names to expressions, each of which has a line in the form. */
export interface Named {
  label: string
  path: Path
  name: string
  expression: string
  /** What each name has, where it is not an expression but several: the first and the next value of what is remembered. */
  of?: string[]
  /** The expressions are measures, which are made of a function, a field and a condition. */
  measures?: boolean
  /** What stands for each name is one of these. */
  choice?: string[]
}

export interface Form {
  settings: Setting[]
  named: Named[]
  /** The part has fields, which a grid of their own shows. */
  fields?: boolean
}

/** The types of fields. */
export const types = ['string', 'int', 'double', 'bool', 'timestamp', 'duration', 'decimal', 'bytes', 'list<string>', 'list<int>', 'list<double>', 'map<string>', 'map<int>', 'map<double>']

const from: Setting = { label: 'from', path: ['from'], hint: 'a source or step', from: true }
const key: Setting = { label: 'key', path: ['key'], hint: 'fields, with commas between', list: true }

const nullKey: Setting = { label: 'null keys', path: ['null_key'], hint: 'reject', choice: ['reject', 'keep'] }

/** The lines of a form for a connector's settings; a mapping of names to groups is written in the text. */
function described(list: Described[] | null | undefined, within: Path = ['with'], label = ''): Setting[] {
  return (list ?? []).flatMap((s): Setting[] => {
    const line: Setting = { label: label + s.label, path: s.beside ? [s.name] : [...within, s.name], hint: s.hint || s.default || s.about }
    switch (s.type) {
      case 'group':
        return described(s.settings, line.path, `${s.label}: `)
      case 'named':
        return []
      case 'bool':
        return [{ ...line, choice: ['true', 'false'] }]
      case 'choice':
        return [{ ...line, choice: s.choices }]
      case 'names':
      case 'texts':
      case 'numbers':
      case 'scalars':
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

/** How events look: the format, and its own settings. */
function decoded(value: Record<string, unknown>): Setting[] {
  const formats = kinds.value.formats.filter((f) => f.decoded)
  const chosen = formats.find((f) => f.name === value.decode)
  return [{ label: 'read as', path: ['decode'], hint: 'as the name ends, or json', choice: formats.map((f) => f.name) }, ...described(chosen?.settings, [])]
}

function sourceForm(value: Record<string, unknown>): Form {
  const own = described(connector(value.via)?.source)
  const settings: Setting[] = [
    ...('described' in value ? [{ label: 'described by', path: ['described'], hint: 'a described source' }] : []),
    ...own.filter((s) => s.path[0] === 'with'),
    ...decoded(value),
    { label: 'event time', path: ['event_time'], hint: connector(value.via)?.stored ? 'a field, stored or arrival' : 'a field or arrival' },
    { label: 'margin', path: ['watermark', 'margin'], hint: '5s' },
    { label: 'idle', path: ['watermark', 'idle'], hint: '1m' },
    { label: 'in silence', path: ['watermark', 'silence'], hint: 'hold', choice: ['hold', 'advance'] },
    { label: 'ahead at most', path: ['watermark', 'ahead'], hint: '1h; none for any' },
    ...own.filter((s) => s.path[0] !== 'with'),
  ]
  return { settings, named: [], fields: true }
}

function referenceForm(value: Record<string, unknown>): Form {
  if ('from' in value) return paired(value, { settings: [{ label: 'rows of', path: ['from'], hint: 'a reference', reference: true }, looked[0]!, { ...looked[1]!, choice: ['keep', 'drop'] }], named: [] }, lookedPairs)
  const settings: Setting[] = [
    ...described(connector(value.via)?.reference).filter((s) => s.path[0] === 'with'),
    ...decoded(value),
    { label: 'key', path: ['key'], hint: 'fields, with commas between', list: true },
    ...(connector(value.via)?.stored ? [] : [{ label: 'read anew every', path: ['refresh'], hint: '1m; empty for once' }]),
    { label: 'memory at most', path: ['limit'], hint: '256MiB' },
    { label: 'event time', path: ['event_time'], hint: 'a field, for lookups as of event time' },
    ...('event_time' in value ? [{ label: 'margin', path: ['watermark', 'margin'], hint: '5s' }, { label: 'keep former rows for', path: ['keep'], hint: '1h' }] : []),
  ]
  return { settings, named: [], fields: true }
}

function sinkForm(value: Record<string, unknown>): Form {
  const settings = [from, ...described(connector(value.via)?.sink), { label: 'written as', path: ['encode'], hint: 'as the name ends, or json', choice: kinds.value.formats.filter((f) => f.encoded).map((f) => f.name) }]
  if (Array.isArray(value.columns)) settings.push({ label: 'columns', path: ['columns'], hint: 'fields, with commas between', list: true })
  return { settings, named: Array.isArray(value.columns) ? [] : [{ label: 'columns (name: field)', path: ['columns'], name: 'column', expression: 'field' }] }
}

/** Half of a duration of one unit, as far as it is whole; else itself. */
function half(d: string): string {
  const m = /^(\d+)([a-z]+)$/.exec(d)
  return m && Number(m[1]) % 2 === 0 ? `${Number(m[1]) / 2}${m[2]}` : d
}

/** The kinds of windows as a form chooses between them: each keeps the size of the one before. */
function windowKinds(w: Record<string, unknown>): Setting {
  const is = Object.keys(w).find((k) => ['tumbling', 'sliding', 'session', 'look_back'].includes(k))
  const size = String((is && w[is]) ?? '1m')
  const quoted = size.includes('$') ? `"${size}"` : size
  const writes = {
    tumbling: `{tumbling: ${quoted}}`, sliding: `{sliding: ${quoted}, by: ${size.includes('$') ? quoted : half(size)}}`, session: `{session: ${quoted}, longest: 12h}`, 'look back': `{look_back: ${quoted}}`, 'the whole': null,
  }
  return { label: 'window', path: ['window'], hint: '', choice: Object.keys(writes), writes, is: is?.replace('_', ' ') ?? 'the whole' }
}

function windowForm(value: Record<string, unknown>): Form {
  const w = (value.window ?? {}) as Record<string, unknown>
  const settings: Setting[] = [from, key, windowKinds(w)]
  const aligned = 'tumbling' in w || 'sliding' in w
  if ('tumbling' in w) settings.push({ label: 'window of', path: ['window', 'tumbling'], hint: '1m, or 1 day' })
  if ('sliding' in w) settings.push({ label: 'window of', path: ['window', 'sliding'], hint: '10m' }, { label: 'begun every', path: ['window', 'by'], hint: '1m' })
  if ('session' in w) settings.push({ label: 'gap', path: ['window', 'session'], hint: '90s' }, { label: 'longest', path: ['window', 'longest'], hint: '12h' })
  if ('look_back' in w) settings.push({ label: 'look back', path: ['window', 'look_back'], hint: '10s' })
  if (aligned) settings.push({ label: 'shifted by', path: ['window', 'shift'], hint: '0s' }, { label: 'zone', path: ['window', 'zone'], hint: 'UTC; of days and longer' })
  if (!value.window) settings.push({ label: 'forget a key after', path: ['forget'], hint: '1h without a row' })
  settings.push(
    { label: 'accept late rows for', path: ['late', 'accept'], hint: '1m' },
    { label: 'publish', path: ['publish'], hint: 'settled', choice: ['settled', 'revised'] },
    { label: 'at most every', path: ['every'], hint: '1s, of what is revised' },
    { label: 'repeat every', path: ['repeat', 'every'], hint: '1m' },
    { label: 'repeat for', path: ['repeat', 'keep'], hint: '10m' },
    { label: 'having', path: ['having'], hint: 'a condition on the results' },
    nullKey,
  )
  return { settings, named: [{ label: 'measures', path: ['measures'], name: 'measure', expression: 'count()', measures: true }] }
}

/** The form of what is not on the map: settings of the job, a value, a function, an alarm. */
function besideForm(kind: string): Form {
  switch (kind) {
    case 'value':
      return { settings: [{ label: 'type', path: ['type'], hint: '', choice: [...types.filter((t) => !t.includes('<')), 'size', 'path', 'topic'] }, { label: 'default', path: ['default'], hint: 'none: a start has to set it' }], named: [] }
    case 'function':
      return { settings: [{ label: 'is', path: ['is'], hint: 't * 1000.0' }], named: [{ label: 'parameters', path: ['of'], name: 'x', expression: 'double', choice: types }] }
    case 'alarm':
      return {
        settings: [
          { label: 'when', path: ['when'], hint: 'lag_seconds > 60' },
          { label: 'for', path: ['for'], hint: '1m' },
          { label: 'about', path: ['about'], hint: 'what it means to people' },
          { label: 'told by', path: ['notify'], hint: 'notices, with commas between', list: true },
          { label: 'off', path: ['off'], hint: 'false', choice: ['true', 'false'] },
        ],
        named: [],
      }
  }
  return {
    settings: [
      { label: 'lanes', path: ['lanes'], hint: 'one for each CPU' },
      { label: 'memory at most', path: ['memory'], hint: "a share of the machine's" },
      { label: 'events under way', path: ['buffer'], hint: '256MiB' },
      { label: 'waiting for sinks', path: ['undelivered'], hint: '1GiB' },
      { label: 'delivery', path: ['delivery'], hint: 'exactly_once', choice: ['exactly_once', 'at_least_once'] },
      { label: 'checkpoint every', path: ['checkpoint', 'every'], hint: '10s' },
      { label: 'checkpoints kept', path: ['checkpoint', 'keep'], hint: '5' },
      { label: 'started again', path: ['restart', 'tries'], hint: '10 times' },
      { label: 'within', path: ['restart', 'within'], hint: '10m' },
    ],
    named: [],
  }
}

/** The form of a part; kind is source, reference, step, sink, value, function, alarm or settings, and value what stands there. */
export function formOf(kind: string, value: Record<string, unknown>): Form {
  if (kind === 'source') return sourceForm(value)
  if (kind === 'reference') return referenceForm(value)
  if (kind === 'sink') return sinkForm(value)
  if (kind !== 'step') return besideForm(kind)
  switch (kindOf(value)) {
    case 'window':
      return windowForm(value)
    case 'deduplicate':
      return { settings: [from, { label: 'the same when', path: ['deduplicate', 'key'], hint: 'fields, with commas between', list: true }, { label: 'within', path: ['deduplicate', 'within'], hint: '10m' }, nullKey], named: [] }
    case 'join':
      return paired(value, {
        settings: [
          { ...from, label: 'left', path: ['join', 'left'] },
          { ...from, label: 'right', path: ['join', 'right'] },
          ...(((value.join as Record<string, unknown> | null)?.window ?? null) === null ? [{ label: 'within', path: ['join', 'within'], hint: '10s' }] : [{ label: 'in one window of', path: ['join', 'window', 'tumbling'], hint: '10s' }]),
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
      return { settings: [from, { label: 'first only', path: ['first_only'], hint: 'false', choice: ['true', 'false'] }], named: [{ label: 'branches', path: ['split'], name: 'branch', expression: 'true' }] }
    case 'absent':
      return { settings: [from, key, { label: 'silent for', path: ['absent'], hint: '10m' }, nullKey], named: [] }
    case 'remember':
      return {
        settings: [from, key, { label: 'forget after', path: ['forget'], hint: '1h' }, { label: 'in order of', path: ['order'], hint: 'time', choice: ['time', 'arrival'] }, { label: 'where', path: ['where'], hint: 'a condition' }, nullKey],
        named: [{ label: 'remembers', path: ['remember'], name: 'last', expression: '{initial: 0, next: 0}', of: ['initial', 'next'] }, { label: 'set', path: ['set'], name: 'field', expression: 'true' }],
      }
    case 'rank':
      return { settings: [from, { label: 'by', path: ['rank', 'by'], hint: 'an expression' }, { label: 'keep', path: ['rank', 'keep'], hint: '3' }, { label: 'of each', path: ['rank', 'per'], hint: 'window_start', list: true }], named: [] }
    case 'expand':
      return { settings: [from], named: [{ label: 'element', path: ['expand'], name: 'item', expression: '' }] }
  }
  return {
    settings: [from, { label: 'where', path: ['where'], hint: "tonnes > 0.5 && crane != ''" }, { label: 'without', path: ['without'], hint: 'fields, with commas between', list: true }, { label: 'only', path: ['only'], hint: 'fields, with commas between', list: true }],
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
  { name: 'sliding', about: 'overlapping windows, one begun every so often', lines: 'from: FROM\nkey: [KEY]\nwindow: {sliding: 10m, by: 1m}\nmeasures:\n  events: count()' },
  { name: 'session', about: 'bursts of rows with silence between', lines: 'from: FROM\nkey: [KEY]\nwindow: {session: 90s, longest: 12h}\nmeasures:\n  events: count()' },
  { name: 'look back', about: 'for each row, measures over the span before it', lines: 'from: FROM\nkey: [KEY]\nwindow: {look_back: 10s}\nmeasures:\n  events: count()' },
  { name: 'join', about: 'pair the rows of two inputs that have a field in common', lines: 'join: {left: FROM, right: OTHER, match: {LEFT: RIGHT}, within: 10s}' },
  { name: 'lookup', about: 'add columns of a reference to each row', lines: 'from: FROM\nlookup: {reference: REFERENCE, match: {LEFT: RIGHT}, add: {ADDED: ADDED}}' },
  { name: 'absent', about: 'tell when a key has had no row for a while', lines: 'from: FROM\nkey: [KEY]\nabsent: 10m' },
  { name: 'whole', about: 'measures over all rows of a key so far', lines: 'from: FROM\nkey: [KEY]\nforget: 12h\nmeasures:\n  events: count()' },
  { name: 'remember', about: 'carry values from row to row of a key', lines: 'from: FROM\nkey: [KEY]\nremember:\n  rows: {initial: 0, next: rows + 1}\nforget: 12h\nset: {before: rows}' },
  { name: 'rank', about: 'of the rows of each window, the first few', lines: 'from: FROM\nrank: {by: NUMBER, keep: 3, per: [window_start]}' },
  { name: 'expand', about: 'a row for each element of a list', lines: 'from: FROM\nexpand: {item: LIST}' },
  { name: 'merge', about: 'the rows of several inputs with the same fields', lines: 'from: [ALIKE]' },
  { name: 'split', about: 'send rows to branches by conditions', lines: "from: FROM\nsplit: {chosen: 'true'}" },
]

/** What stands beside the map, as it begins. */
export const besideKinds: Record<string, Kind[]> = {
  value: [
    { name: 'span', about: 'a duration', lines: '{type: duration, default: 10m}' },
    { name: 'least', about: 'a number', lines: '{type: double, default: 1.0}' },
    { name: 'name', about: 'a text', lines: "{type: string, default: ''}" },
    { name: 'topic', about: 'the name of a topic', lines: '{type: topic, default: TOPIC}' },
    { name: 'path', about: 'a file or folder', lines: '{type: path, default: rows.ndjson}' },
    { name: 'room', about: 'a size', lines: '{type: size, default: 256MiB}' },
  ],
  function: [{ name: 'own', about: 'an expression with a name, which others call', lines: '{of: {x: double}, is: x * 1.0}' }],
  alarm: [
    { name: 'behind', about: 'the lag has been long for a while', lines: "{when: 'lag_seconds > 60', for: 5m, about: what waits to be read grows old}" },
    { name: 'lost', about: 'late rows are lost', lines: "{when: 'late_per_second > 0', for: 0s, about: rows came later than the windows accept}" },
    { name: 'silent', about: 'no event comes', lines: "{when: 'in_per_second == 0', for: 10m, about: no event has come}" },
  ],
}

/** What references can be, by the kinds of connectors. */
export function referenceKinds(): Kind[] {
  return kinds.value.connectors.filter((k) => k.reference && k.reference_example.name).map((k) => ({ ...k.reference_example }))
}

/** What sinks can be, by the kinds of connectors. */
export function sinkKinds(): Kind[] {
  return kinds.value.connectors.filter((k) => k.sink && k.sink_example.name).map((k) => ({ ...k.sink_example, lines: `from: FROM\n${k.sink_example.lines}` }))
}

/** What sources can be, by the kinds of connectors. */
export function sourceKinds(): Kind[] {
  return kinds.value.connectors.filter((k) => k.source && k.source_example.name).map((k) => ({ ...k.source_example, lines: `${k.source_example.lines}\nfields:\n  id: string\n  at: timestamp\nevent_time: at\nwatermark: {margin: 5s}` }))
}
