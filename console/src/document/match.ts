// What two inputs of a join, or the rows of a lookup and its reference, may have in common.

export interface Field {
  name: string
  type: string
}

/**
 * The fields to match, one of each side: a text, or else a whole number, that both have under one name; else the first of each that have
 * one type. Nothing where there are none, or the fields of one are not known.
 */
export function matchOf(left: Field[], right: Field[]): [string, string] | null {
  const both = (type: string) => left.find((f) => f.type === type && right.some((g) => g.name === f.name && g.type === type))
  const shared = both('string') ?? both('int')
  if (shared) return [shared.name, shared.name]
  for (const type of ['string', 'int', ...right.map((g) => g.type)]) {
    const [a, b] = [left.find((f) => f.type === type), right.find((g) => g.type === type)]
    if (a && b) return [a.name, b.name]
  }
  return null
}

/** Those of a reference by which its rows are found; all where the document does not say which. */
export function keyFields(fields: Field[], key: unknown): Field[] {
  const names = Array.isArray(key) ? key.map(String) : []
  return names.length ? fields.filter((f) => names.includes(f.name)) : fields
}

/** Whether all fields that are matched stand on both sides; match is a list of names, or the right's by the left's. */
export function matches(match: unknown, left: Field[], right: Field[]): boolean {
  const pairs: [string, string][] = Array.isArray(match) ? match.map((m) => [String(m), String(m)]) : typeof match === 'object' && match !== null ? Object.entries(match).map(([k, v]) => [k, String(v)]) : []
  const has = (fields: Field[], name: string) => fields.some((f) => f.name === name)
  return pairs.length > 0 && pairs.every(([l, r]) => has(left, l) && has(right, r))
}
