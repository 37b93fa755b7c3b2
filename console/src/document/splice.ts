// Forms change a document by splicing its text at the places of its tokens, so that comments and layout
// stay as they are. Nothing here writes a document anew.
import { isMap, isScalar, isSeq, parseDocument, type Document, type Pair, type YAMLMap } from 'yaml'

export type Path = (string | number)[]

export function parse(text: string): Document.Parsed {
  return parseDocument(text, { keepSourceTokens: true, prettyErrors: false, strict: false })
}

/** The value at a path as plain data; undefined where there is none. */
export function valueAt(text: string, path: Path): unknown {
  const n = parse(text).getIn(path, true)
  return plain(n)
}

export function plain(n: unknown): unknown {
  if (n && typeof n === 'object' && 'toJSON' in n) return (n as { toJSON(): unknown }).toJSON()
  return n
}

/** A text as it stands in a document: the source of the node at a path. */
export function sourceAt(text: string, path: Path): string {
  const n = parse(text).getIn(path, true) as { range?: [number, number, number] } | undefined
  return n?.range ? text.slice(n.range[0], n.range[1]) : ''
}

/** Writes a scalar for YAML: in quotes where it would read as something else, or holds what flow style takes. */
export function scalar(v: string): string {
  const s = v.trim()
  if (s === '') return "''"
  if (/^(\d+(us|ms|s|m|h|d))+$/.test(s)) return s // a duration
  if (/^-?\d+(\.\d+)?$/.test(s) || s === 'true' || s === 'false') return s
  if (/^[A-Za-z_/][A-Za-z0-9_./ -]*$/.test(s) && !/^(null|yes|no|on|off|~)$/i.test(s) && !s.endsWith(' ')) return s
  return `'${s.replaceAll("'", "''")}'`
}

function lineIndent(text: string, at: number): number {
  const start = text.lastIndexOf('\n', at - 1) + 1
  const m = /^ */.exec(text.slice(start))
  return m ? m[0].length : 0
}

function pairOf(map: YAMLMap, key: string): Pair | undefined {
  return map.items.find((p) => (isScalar(p.key) ? String(p.key.value) : String(p.key)) === key)
}

type Ranged = { range: [number, number, number] }

/**
 * Gives the text with the value at a path replaced, or added to the mapping that lacks it. value is YAML as it
 * is to stand there, on one line. Without a value the entry is taken out.
 */
export function put(text: string, path: Path, value: string | null): string {
  const doc = parse(text)
  const key = String(path[path.length - 1])
  const parentPath = path.slice(0, -1)
  const parent = parentPath.length ? doc.getIn(parentPath, true) : doc.contents
  if (!isMap(parent)) {
    if (value === null) return text
    if (parent === undefined || parent === null || (isScalar(parent) && parent.value === null)) return put(text, parentPath, `{${key}: ${value}}`)
    return text
  }
  const pair = pairOf(parent, key)
  if (value === null) return pair ? remove(text, parent, pair) : text
  if (pair) {
    const v = pair.value as Ranged | null
    if (v?.range) {
      // A value that is a block (on lines of its own) gives way to one on the line of its key.
      const from = v.range[0]
      const block = (isMap(v) || isSeq(v)) && !(v as { flow?: boolean }).flow
      const keyEnd = (pair.key as unknown as Ranged).range[1]
      if (block) {
        const end = text.slice(0, v.range[1]).trimEnd().length
        return `${text.slice(0, keyEnd)}: ${value}${text.slice(end)}`
      }
      return text.slice(0, from) + (text[from - 1] === ':' ? ' ' : '') + value + text.slice(v.range[1])
    }
    const at = (pair.key as unknown as Ranged).range[1]
    return `${text.slice(0, at)}: ${value}${text.slice(at).replace(/^\s*:[^\S\n]*/, '')}`
  }
  const range = (parent as unknown as Ranged).range
  if (parent.flow) {
    const inner = text.slice(range[0] + 1, range[1] - 1)
    const close = range[1] - 1
    return text.slice(0, close).trimEnd() + (inner.trim() ? ', ' : '') + `${key}: ${value}` + text.slice(close)
  }
  const first = parent.items[0]
  const indent = first ? lineIndent(text, (first.key as unknown as Ranged).range[0]) : 2
  const last = parent.items[parent.items.length - 1]
  const end = last ? endOf(text, last) : range[1]
  return insertLines(text, end, `${' '.repeat(indent)}${key}: ${value}`)
}

/** Where a pair ends: after its last character and what stands behind it on the line. */
function endOf(text: string, pair: Pair): number {
  const v = pair.value as Ranged | null
  let at = v?.range ? v.range[1] : (pair.key as unknown as Ranged).range[1] + 1
  at = text.slice(0, at).trimEnd().length
  const line = text.indexOf('\n', at)
  return line < 0 ? text.length : line
}

function insertLines(text: string, end: number, lines: string): string {
  const before = text.slice(0, end).replace(/\n+$/, '')
  const after = text.slice(end)
  return `${before}\n${lines}${after.startsWith('\n') || after === '' ? after || '\n' : `\n${after}`}`
}

/** Gives the text with another name for the entry at a path; as it is where that name is taken. */
export function rename(text: string, path: Path, name: string): string {
  const doc = parse(text)
  const parent = path.length > 1 ? doc.getIn(path.slice(0, -1), true) : doc.contents
  if (!isMap(parent) || pairOf(parent, name)) return text
  const pair = pairOf(parent, String(path.at(-1)))
  if (!pair) return text
  const [from, to] = (pair.key as unknown as Ranged).range
  return text.slice(0, from) + scalar(name) + text.slice(to)
}

function remove(text: string, map: YAMLMap, pair: Pair): string {
  const start = (pair.key as unknown as Ranged).range[0]
  const v = pair.value as Ranged | null
  const stop = v?.range ? v.range[1] : (pair.key as unknown as Ranged).range[1] + 1
  if (map.flow) {
    const i = map.items.indexOf(pair)
    if (i + 1 < map.items.length) return text.slice(0, start) + text.slice((map.items[i + 1]!.key as unknown as Ranged).range[0])
    if (i > 0) {
      const before = map.items[i - 1]!
      const bv = before.value as Ranged | null
      return text.slice(0, bv?.range ? bv.range[1] : (before.key as unknown as Ranged).range[1]) + text.slice(stop)
    }
    return text.slice(0, start) + text.slice(stop)
  }
  const from = text.lastIndexOf('\n', start - 1) + 1
  const end = endOf(text, pair)
  return text.slice(0, from) + text.slice(Math.min(text.length, end + 1))
}

const order = ['undertide', 'job', 'about', 'values', 'functions', 'settings', 'connections', 'references', 'sources', 'steps', 'sinks', 'alarms', 'examples']

/** Adds a named entry (lines without indentation, the first `name:`) at the end of a section of the document. */
export function addEntry(text: string, section: string, lines: string): string {
  const doc = parse(text)
  const body = (indent: number) =>
    lines
      .trimEnd()
      .split('\n')
      .map((l) => (l ? ' '.repeat(indent) + l : l))
      .join('\n')
  const map = doc.get(section, true)
  if (isMap(map) && map.items.length && !map.flow) {
    const indent = lineIndent(text, (map.items[0]!.key as unknown as Ranged).range[0])
    return insertLines(text, endOf(text, map.items[map.items.length - 1]!), body(indent))
  }
  if (isSeq(map) && map.items.length && !map.flow) {
    const item = map.items[map.items.length - 1] as unknown as Ranged
    const indent = lineIndent(text, (map.items[0] as unknown as Ranged).range[0])
    const end = text.slice(0, item.range[1]).trimEnd().length
    const line = text.indexOf('\n', end)
    return insertLines(text, line < 0 ? text.length : line, body(indent))
  }
  const root = doc.contents
  if (!isMap(root)) return `${text.trimEnd()}\n${section}:\n${body(2)}\n`
  if (pairOf(root, section)) return addEntry(remove(text, root, pairOf(root, section)!), section, lines) // empty: it begins anew
  const next = root.items.find((p) => order.indexOf(String((p.key as { value: unknown }).value)) > order.indexOf(section))
  if (!next) return `${text.trimEnd()}\n\n${section}:\n${body(2)}\n`
  const at = text.lastIndexOf('\n', (next.key as unknown as Ranged).range[0] - 1) + 1
  return `${text.slice(0, at).trimEnd()}\n\n${section}:\n${body(2)}\n\n${text.slice(at)}`
}

/** The names of a section's entries. */
export function namesOf(text: string, section: string): string[] {
  const map = parse(text).get(section, true)
  if (!isMap(map)) return []
  return map.items.map((p) => String((p.key as { value: unknown }).value))
}

/** A name that is not taken: the wanted one, or that with the first number that makes it free. */
export function freeAmong(taken: string[], wanted: string): string {
  if (!taken.includes(wanted)) return wanted
  for (let n = 2; ; n++) if (!taken.includes(`${wanted}_${n}`)) return `${wanted}_${n}`
}

/** A name that none of the document's sources, references, steps and sinks has. */
export function freeName(text: string, wanted: string): string {
  return freeAmong(['sources', 'references', 'steps', 'sinks'].flatMap((s) => namesOf(text, s)), wanted)
}
