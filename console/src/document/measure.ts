// Measures as people choose them: a function, a field, and a condition.

/** One aggregate call. beside is the number that some take: quantile(x, 0.95), collect(x, 10). */
export interface Measure {
  of: string
  field: string
  beside: string
  condition: string
}

/** The aggregates: what they take beside a field, and whether they take a field at all. */
export const aggregates: { name: string; about: string; field: boolean; beside?: string }[] = [
  { name: 'count', about: 'how many rows', field: false },
  { name: 'sum', about: 'the sum', field: true },
  { name: 'mean', about: 'the mean', field: true },
  { name: 'min', about: 'the least', field: true },
  { name: 'max', about: 'the greatest', field: true },
  { name: 'first', about: 'of the first row by event time', field: true },
  { name: 'last', about: 'of the last row by event time', field: true },
  { name: 'count_distinct', about: 'how many different ones', field: true },
  { name: 'median', about: 'the middle one', field: true },
  { name: 'quantile', about: 'the one of a rank', field: true, beside: '0.95' },
  { name: 'stddev', about: 'the standard deviation', field: true },
  { name: 'variance', about: 'the variance', field: true },
  { name: 'collect', about: 'a list of them', field: true, beside: '10' },
  { name: 'largest', about: 'the greatest few', field: true, beside: '10' },
  { name: 'most_common', about: 'the most common few', field: true, beside: '10' },
]

/** What an aggregate call says; null for any other expression, which stays a text. */
export function measureOf(text: string): Measure | null {
  const call = /^\s*([a-z_]+)\s*\((.*)\)\s*$/s.exec(text)
  if (!call) return null
  const args = split(call[2]!)
  if (!args) return null
  if (call[1] === 'count_if') return args.length === 1 && args[0] ? { of: 'count', field: '', beside: '', condition: args[0] } : null
  const known = aggregates.find((a) => a.name === call[1])
  if (!known) return null
  const m: Measure = { of: known.name, field: '', beside: '', condition: '' }
  if (known.field) {
    m.field = args.shift() ?? ''
    if (!/^[A-Za-z_]\w*$/.test(m.field)) return null
    if (known.beside && args.length) m.beside = args.shift()!
  } else if (args.length !== 1 || args[0] !== '') return null
  else args.shift()
  m.condition = args.shift() ?? ''
  return args.length ? null : m
}

/** The expression of a measure. */
export function textOf(m: Measure): string {
  const known = aggregates.find((a) => a.name === m.of)
  if (!known?.field) return m.condition ? `count_if(${m.condition})` : `${m.of}()`
  const beside = known.beside ? m.beside || known.beside : ''
  return `${m.of}(${[m.field, beside, m.condition].filter(Boolean).join(', ')})`
}

/** The arguments of a call, between commas that stand in no brackets or quotes; null where those do not close. */
function split(text: string): string[] | null {
  const out: string[] = []
  let depth = 0
  let quote = ''
  let from = 0
  for (let i = 0; i < text.length; i++) {
    const c = text[i]!
    if (quote) {
      if (c === '\\') i++
      else if (c === quote) quote = ''
    } else if (c === "'" || c === '"') quote = c
    else if ('([{'.includes(c)) depth++
    else if (')]}'.includes(c)) {
      if (--depth < 0) return null // the call closes before: sum(a) + sum(b)
    } else if (c === ',' && depth === 0) {
      out.push(text.slice(from, i).trim())
      from = i + 1
    }
  }
  if (depth || quote) return null
  return [...out, text.slice(from).trim()]
}
