// Completion from the JSON Schema of documents, and from the document itself: names in `from` and keys, fields
// in expressions.
import type { CompletionContext, CompletionResult } from '@codemirror/autocomplete'

import { ask } from '../http'
import { readable } from './outline'
import { namesOf } from './splice'

interface Schema {
  $ref?: string
  description?: string
  enum?: unknown[]
  const?: unknown
  type?: string | string[]
  default?: unknown
  properties?: Record<string, Schema>
  additionalProperties?: Schema | boolean
  items?: Schema
  oneOf?: Schema[]
  anyOf?: Schema[]
  allOf?: Schema[]
  then?: Schema
  if?: unknown
  $defs?: Record<string, Schema>
}

let root: Schema | null = null

/** Asks for the schema once. */
export async function loadSchema(): Promise<void> {
  root ??= await ask<Schema>('/schema/job.json')
}

function open(s: Schema): Schema[] {
  if (s.$ref) {
    const name = s.$ref.replace('#/$defs/', '')
    const d = root?.$defs?.[name]
    return d ? open(d) : []
  }
  return [s, ...[...(s.oneOf ?? []), ...(s.anyOf ?? []), ...(s.allOf ?? [])].flatMap(open), ...(s.then ? open(s.then) : [])]
}

function step(list: Schema[], key: string): Schema[] {
  return list.flatMap((s) => {
    if (key === '-') return s.items ? open(s.items) : []
    const p = s.properties?.[key]
    if (p) return open(p)
    return typeof s.additionalProperties === 'object' ? open(s.additionalProperties) : []
  })
}

/** The keys that lead to a line, by its indentation; flow mappings on the line count too. */
export function pathTo(lines: string[], line: number, column: number): { path: string[]; inValue: boolean; key: string; flow: boolean } {
  const own = (lines[line] ?? '').slice(0, column)
  const path: string[] = []
  let indent = own.search(/\S/)
  if (indent < 0) indent = own.length
  const opened: string[] = []
  let m = /^(\s*(?:- )*)([A-Za-z_][\w.-]*|undertide):\s*(.*)$/.exec(own)
  let key = ''
  let inValue = false
  let flow = false
  if (m) {
    key = m[2] ?? ''
    inValue = true
    let rest = m[3] ?? ''
    // {a: {b: c, d
    if (rest.startsWith('{') || rest.startsWith('[')) {
      let current = ''
      const stack: string[] = [key]
      let at = ''
      for (const c of rest) {
        if (c === '{') {
          if (at) stack.push(at)
          at = ''
          current = ''
          flow = true
        } else if (c === '}') stack.pop()
        else if (c === ',') {
          at = ''
          current = ''
        } else if (c === ':') {
          at = current.trim()
          current = ''
        } else current += c
      }
      if (flow && stack.length) {
        opened.push(...stack)
        key = at
        inValue = at !== ''
      }
      rest = ''
    }
  }
  for (let n = line - 1; n >= 0 && indent > 0; n--) {
    const l = lines[n] ?? ''
    if (!l.trim() || l.trim().startsWith('#')) continue
    const at = l.search(/\S/)
    if (at >= indent) continue
    m = /^\s*(- )?\s*([A-Za-z_][\w.-]*):/.exec(l)
    if (m) {
      path.unshift(m[2] ?? '')
      if (m[1]) path.unshift('-')
    } else if (l.trim().startsWith('-')) path.unshift('-')
    indent = at
  }
  return { path: [...path, ...opened], inValue, key, flow }
}

const functions = ['count()', 'count_if()', 'count_distinct()', 'sum()', 'mean()', 'min()', 'max()', 'first()', 'last()', 'stddev()', 'variance()', 'quantile()', 'median()', 'collect()', 'largest()', 'most_common()']

/** What can stand at the cursor. fields are those that expressions of the part around it may name. */
export function complete(fields: (line: number) => { name: string; type: string }[]) {
  return (c: CompletionContext): CompletionResult | null => {
    if (!root) return null
    const text = c.state.doc.toString()
    const line = c.state.doc.lineAt(c.pos)
    const word = c.matchBefore(/[\w.]*/)
    if (!c.explicit && (!word || word.from === word.to)) return null
    const here = pathTo(text.split('\n'), line.number - 1, c.pos - line.from)
    let list = open(root)
    for (const k of here.path) list = step(list, k)
    const at = word ? word.from : c.pos
    if (here.inValue) {
      if (here.key === 'from') return { from: at, options: readable(text).map((label) => ({ label, type: 'variable' })), validFor: /^[\w ]*$/ }
      const values = step(list, here.key)
      const options = values.flatMap((s) => [...(s.enum ?? []), ...(s.const === undefined ? [] : [s.const])]).map((v) => ({ label: String(v), type: 'enum' }))
      const inExpression = values.some((s) => s.description?.includes('CEL')) || here.path.some((k) => ['measures', 'set', 'split', 'expand', 'remember'].includes(k)) || ['where', 'having', 'event_time', 'key', 'by', 'next', 'initial'].includes(here.key)
      if (inExpression) {
        options.push(...fields(line.number).map((f) => ({ label: f.name, type: 'variable', detail: f.type })))
        options.push(...namesOf(text, 'values').map((n) => ({ label: `values.${n}`, type: 'constant' })), ...namesOf(text, 'functions').map((n) => ({ label: `${n}()`, type: 'function' })))
        if (here.path.includes('measures')) options.push(...functions.map((label) => ({ label, type: 'function' })))
      }
      return options.length ? { from: at, options, validFor: /^[\w.]*$/ } : null
    }
    const seen = new Set<string>()
    const options = list
      .flatMap((s) => Object.entries(s.properties ?? {}))
      .filter(([name]) => !seen.has(name) && seen.add(name))
      .map(([name, s]) => ({ label: name, type: 'property', info: open(s).find((x) => x.description)?.description ?? s.description, apply: `${name}: ` }))
    return options.length ? { from: at, options, validFor: /^\w*$/ } : null
  }
}
