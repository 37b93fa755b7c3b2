import dagre from '@dagrejs/dagre'

import type { Schemas } from '../http'

export type Kind = 'source' | 'reference' | 'step' | 'sink'

/** A part of a job's map with its place in pixels. */
export interface MapPart {
  name: string
  kind: Kind
  /** What it does, in words. */
  does: string
  /** Whether it keeps state. */
  keeps: boolean
  x: number
  y: number
  width: number
  height: number
}

export interface MapEdge {
  from: string
  to: string
  /** late, rejects, a branch of a split, or looked up; empty for the rows themselves. */
  part: string
}

/** What parts measure, in pixels: a map beside something else has narrow ones; with figures there is a line more. */
export interface Measures {
  compact: boolean
  figures: boolean
}

/** A part is as wide as its name needs, within bounds; beside the name stand its rows a second. */
function partWidth(name: string, m: Measures): number {
  const letters = name.replace(/^sink /, '').length * 7.8
  return Math.round(m.compact ? Math.min(320, Math.max(138, letters + 26)) : Math.min(420, Math.max(200, letters + (m.figures ? 96 : 28))))
}

/** Splits what stands in `from`: minute, late of minute, rejects of levels, refused of seen; several with commas between. */
export function origins(text: string): { name: string; part: string }[] {
  return text.split(',').map((one) => {
    const words = one.trim().split(/\s+/)
    return words.length === 3 ? { name: words[2], part: words[0] } : { name: words[0], part: '' }
  })
}

/** What the name of a part takes on a line, in pixels: some six a letter at its size, and air. */
function labelWidth(text: string): number {
  return text.length * 6 + 14
}

/** Places sources, references, steps and sinks from left to right. A sink may have the name of a step, so sinks have a prefix. */
export function layOut(plan: Schemas['Plan'], m: Measures): { parts: MapPart[]; edges: MapEdge[]; height: number } {
  const parts: MapPart[] = []
  const edges: MapEdge[] = []
  const add = (name: string, kind: Kind, does: string, keeps: boolean) => parts.push({ name, kind, does, keeps, x: 0, y: 0, width: partWidth(name, m), height: m.figures ? 73 : 58 })
  for (const s of plan.sources) add(s.name, 'source', s.reads, false)
  for (const r of plan.references) {
    add(r.name, 'reference', r.reads, false)
    for (const o of r.of) edges.push({ from: o, to: r.name, part: 'looked up' })
  }
  for (const s of plan.steps) {
    add(s.name, 'step', s.does.join('; ') || s.kind, s.state !== 'none')
    for (const o of origins(s.from)) edges.push({ from: o.name, to: s.name, part: o.part })
    for (const r of s.looks) edges.push({ from: r, to: s.name, part: 'looked up' })
  }
  for (const s of plan.sinks) {
    add(`sink ${s.name}`, 'sink', s.writes, false)
    for (const o of origins(s.from)) edges.push({ from: o.name, to: `sink ${s.name}`, part: o.part })
  }
  return { parts, edges, height: place(parts, edges, m.compact ? 26 : 44) }
}

/** Gives parts their places, from left to right; the answer is the height of all. */
export function place(parts: { name: string; x: number; y: number; width: number; height: number }[], edges: MapEdge[], ranksep: number): number {
  const g = new dagre.graphlib.Graph()
  g.setGraph({ rankdir: 'LR', nodesep: 16, ranksep, marginx: 2, marginy: 4 })
  g.setDefaultEdgeLabel(() => ({}))
  for (const p of parts) g.setNode(p.name, { width: p.width, height: p.height })
  for (const e of edges) g.setEdge(e.from, e.to, e.part ? { width: labelWidth(e.part), height: 14, labelpos: 'c' } : {})
  dagre.layout(g)
  let all = 0
  for (const p of parts) {
    const at = g.node(p.name)
    p.x = at.x - p.width / 2
    p.y = at.y - p.height / 2
    all = Math.max(all, at.y + p.height / 2)
  }
  return all + 4
}
