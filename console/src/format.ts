// How numbers, times and spans are written for people. Raw values go into title attributes.

const whole = new Intl.NumberFormat('en-US', { maximumFractionDigits: 0 })
const three = new Intl.NumberFormat('en-US', { maximumFractionDigits: 3, minimumFractionDigits: 3 })

export function count(n: number): string {
  return whole.format(n)
}

export function rate(n: number): string {
  return `${n >= 100 ? whole.format(n) : n.toFixed(1)}/s`
}

/** A span in seconds: 0.4 s, 12 s, 3 min, 2 h 5 min, 4 d. */
export function span(seconds: number): string {
  if (seconds < 10) return `${Math.max(0, seconds).toFixed(1)} s`
  if (seconds < 120) return `${Math.floor(seconds)} s`
  if (seconds < 7200) return `${Math.floor(seconds / 60)} min`
  if (seconds < 172800) return `${Math.floor(seconds / 3600)} h ${Math.floor((seconds % 3600) / 60)} min`
  return `${Math.floor(seconds / 86400)} d`
}

export function bytes(n: number): string {
  if (n >= 10 * 2 ** 20) return `${Math.round(n / 2 ** 20)} MiB`
  if (n >= 10 * 2 ** 10) return `${Math.round(n / 2 ** 10)} KiB`
  return `${whole.format(n)} B`
}

/** A figure with its unit, as the API names units. */
export function figure(v: number, unit: string): string {
  switch (unit) {
    case 'ratio': return `${(100 * v).toFixed(v > 0 && v < 0.1 ? 1 : 0)} %`
    case 'bytes': return bytes(v)
    case 'bytes/s': return `${bytes(v)}/s`
    case 'seconds': return v > 0 && v < 1 ? `${Math.round(1000 * v)} ms` : span(v)
    case 'events/s': case 'rows/s': return rate(v)
    case 'events': case 'rows': return count(v)
  }
  return Number.isInteger(v) ? count(v) : Math.abs(v) < 0.1 ? v.toPrecision(2) : v.toFixed(2)
}

export function percent(share: number): string {
  return `${Math.round(100 * share)} %`
}

/** A moment as RFC 3339: the time of day for today, else with its date; always UTC. */
export function moment(text: string | null | undefined): string {
  if (!text) return '–'
  const t = new Date(text)
  if (Number.isNaN(t.getTime())) return text
  const iso = t.toISOString()
  const today = new Date().toISOString().slice(0, 10)
  return iso.slice(0, 10) === today ? iso.slice(11, 19) : `${iso.slice(0, 10)} ${iso.slice(11, 19)}`
}

export function secondsSince(text: string): number {
  return (Date.now() - new Date(text).getTime()) / 1000
}

/** A cell of a row by its field's type. */
export function cell(value: unknown, type: string, decimals?: number): string {
  if (value === null || value === undefined) return '–'
  if (type === 'double' && typeof value === 'number' && decimals !== undefined) return value.toFixed(decimals)
  if (type === 'double' && typeof value === 'number') return three.format(value)
  if (type === 'int' && typeof value === 'number') return whole.format(value)
  if (type === 'timestamp') return moment(String(value))
  return String(value)
}

export function toRight(type: string): boolean {
  return type === 'int' || type === 'double' || type === 'duration'
}
