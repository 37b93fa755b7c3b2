// The values of a form of described settings, and what a document would hold of them.
import type { Described } from './kinds'

export type Values = { [name: string]: string | Values }

/** What stands in a new form. */
export function beginning(list: Described[]): Values {
  return Object.fromEntries(list.map((s) => [s.name, s.type === 'group' ? '' : s.first]))
}

/** What stands in the form of settings that there are. Passwords are not shown. */
export function shown(list: Described[], settings: Record<string, unknown>): Values {
  return Object.fromEntries(
    list.map((s) => {
      const v = settings[s.name]
      if (s.type === 'group') return [s.name, v ? shown(s.settings, v as Record<string, unknown>) : '']
      if (s.type === 'secret' || v === undefined || v === null) return [s.name, '']
      return [s.name, Array.isArray(v) ? v.join(', ') : String(v)]
    }),
  )
}

/** What a document would hold. secret gives what stands for a password, from what was typed. */
export function written(list: Described[], values: Values, secret: (s: Described, typed: string) => string): Record<string, unknown> {
  const out: Record<string, unknown> = {}
  for (const s of list) {
    const v = values[s.name]
    if (typeof v === 'object') out[s.name] = written(s.settings, v, secret)
    else if (s.type === 'secret') out[s.name] = secret(s, v ?? '')
    else if (v === undefined || v.trim() === '') continue
    else if (s.type === 'texts') out[s.name] = v.split(',').map((x) => x.trim()).filter(Boolean)
    else if (s.type === 'whole' || s.type === 'number') out[s.name] = Number(v)
    else if (s.type === 'bool') out[s.name] = v === 'true'
    else out[s.name] = v
  }
  return out
}

/** The secrets that were typed; empty for none. */
export function typed(list: Described[], values: Values): string {
  for (const s of list) {
    const v = values[s.name]
    const found = typeof v === 'object' ? typed(s.settings, v) : s.type === 'secret' ? (v ?? '') : ''
    if (found) return found
  }
  return ''
}
