import { diffLines } from 'diff'

/** A line of what changed: added, removed, or as it was; "…" stands for lines between that are as they were. */
export interface ChangedLine {
  sign: '+' | '-' | ' ' | '…'
  text: string
}

const around = 2

/** What differs between two texts, line by line, each change with two lines around it. */
export function changes(before: string, after: string): ChangedLine[] {
  const all: ChangedLine[] = diffLines(before, after).flatMap((p) => p.value.replace(/\n$/, '').split('\n').map((text) => ({ sign: p.added ? '+' : p.removed ? '-' : ' ', text }) as ChangedLine))
  const near = all.map((_, i) => all.slice(Math.max(0, i - around), i + around + 1).some((l) => l.sign !== ' '))
  const out: ChangedLine[] = []
  all.forEach((l, i) => {
    if (near[i]) out.push(l)
    else if (out.length && out.at(-1)!.sign !== '…') out.push({ sign: '…', text: '' })
  })
  if (out.at(-1)?.sign === '…') out.pop()
  return out
}

/** How many lines were added and removed. */
export function countOf(lines: ChangedLine[]): { added: number; removed: number } {
  return { added: lines.filter((l) => l.sign === '+').length, removed: lines.filter((l) => l.sign === '-').length }
}
