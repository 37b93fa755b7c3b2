import type { Schemas } from './http'
import type { Row } from './use/runs'

/** Results as they are looked at: which windows, which keys, which measures. */
export type Choice = {
  /** So many of the newest windows; 0 for all that are kept. */
  windows: number
  /** Windows from one end to another, in place of the newest; empty for none. */
  from: string
  until: string
  /** Keys that were named; none for the first ones by name. */
  keys: string[]
  /** So many keys where none are named. */
  most: number
}

export type Level = Schemas['Level']
export type Field = { name: string; type: string; levels?: Level[] }

/** The key of a row, as it is shown. */
export function keyOf(row: Record<string, unknown>, names: string[]): string {
  return names.map((k) => String(row[k])).join(', ') || 'all'
}

/** What is shown of rows by a choice: the ends of windows, oldest first, the keys that are shown, and those that are not. */
export function chosen(rows: Row[], names: string[], c: Choice) {
  const ends = [...new Set(rows.map((r) => String(r.row.window_end)))].sort()
  const windows = c.from ? ends.filter((e) => e >= c.from && e <= c.until) : c.windows > 0 ? ends.slice(-c.windows) : ends
  const all = [...new Set(rows.map((r) => keyOf(r.row, names)))].sort((a, b) => a.localeCompare(b, 'en', { numeric: true }))
  const keys = c.keys.length ? all.filter((k) => c.keys.includes(k)) : all.slice(0, c.most)
  return { windows, all, keys, rest: all.filter((k) => !keys.includes(k)) }
}

/** A measure of each key by window: null where a key has no row of it. Of several rows of one window the newest counts. */
export function lines(rows: Row[], names: string[], measure: string, windows: string[], keys: string[]) {
  const at = new Map(windows.map((w, i) => [w, i]))
  const out = new Map(keys.map((k) => [k, Array<number | null>(windows.length).fill(null)]))
  for (let i = rows.length - 1; i >= 0; i--) {
    const row = rows[i]!.row
    const line = out.get(keyOf(row, names))
    const n = at.get(String(row.window_end))
    if (line && n !== undefined) line[n] = row[measure] as number | null
  }
  return [...out].map(([name, values]) => ({ name, values }))
}

/** What a value is called, and how high that is, from 1; null where it is called nothing. */
export function levelOf(value: unknown, levels: Level[] | undefined): { name: string; rank: number; of: number } | null {
  const v = typeof value === 'string' ? Number(value) : value
  if (!levels?.length || typeof v !== 'number' || Number.isNaN(v)) return null
  const rank = levels.filter((l) => v >= l.from).length
  return rank ? { name: levels[rank - 1]!.name, rank, of: levels.length } : null
}

/** The colour of a level, the highest in the strongest. */
export function levelColor(rank: number, of: number): 'sea' | 'amber' | 'brick' {
  return rank === of ? 'brick' : rank === of - 1 ? 'amber' : 'sea'
}

// Texts that a spreadsheet would take for a formula are marked as text.
function csvCell(v: unknown): string {
  if (v === null || v === undefined) return ''
  let s = String(v)
  if (typeof v === 'string' && /^[=+\-@\t\r]/.test(s)) s = `'${s}`
  return /[",\n\r]/.test(s) ? `"${s.replaceAll('"', '""')}"` : s
}

/** Rows as CSV. */
export function csv(rows: Row[], names: string[]): string {
  return [names.map(csvCell).join(','), ...rows.map((r) => names.map((n) => csvCell(r.row[n])).join(','))].join('\n') + '\n'
}
