import { computed, ref, shallowRef, watch, type Ref } from 'vue'

import { count, moment, span } from '../format'
import { post, type Schemas } from '../http'
import { useAsked } from './asked'

/** An event that is given to a play, or time that passes. */
export interface Line {
  source: string
  /** The event as it is given: JSON, or the raw text. */
  text: string
  /** Whether text is raw. */
  raw: boolean
  clock: string
}

/** A window as a list has it, and what it holds so far. */
export interface Held {
  /** As it stands on the chart: from 1. */
  number: number
  key: string
  from: string
  to: string
  /** Open, closed, corrected, withdrawn. */
  state: string
  /** The events that went into it, from 1. */
  events: number[]
  /** Its newest row in words; empty while nothing was published. */
  holds: string
  /** Whether the event that is pointed at is in it. */
  lit: boolean
}

/**
 * A play of a document: the events that were given, how far they were stepped through, and what came of it. ready says that the
 * document is one that can be played.
 */
export function usePlay(text: Ref<string>, ready: Ref<boolean>, sources: Ref<string[]>) {
  const source = ref('')
  watch(sources, (s) => s.includes(source.value) || (source.value = s[0] ?? ''), { immediate: true })

  const lines = shallowRef<Line[]>([])
  const at = ref(0)
  const order = ref('time')
  const played = useAsked(() =>
    post<Schemas['Played']>('/documents/play', {
      document: text.value, by_arrival: order.value === 'arrival',
      events: lines.value.map((l) => (l.clock ? { clock: l.clock } : { source: l.source, event: l.raw ? l.text : (JSON.parse(l.text) as unknown) })),
    }),
  )
  const moments = computed(() => played.data.value?.moments ?? [])
  watch([lines, order, ready, text], async () => {
    if (!lines.value.length || !ready.value) {
      played.data.value = null
      at.value = 0
      return
    }
    await played.ask()
    if (played.problem.value) played.data.value = null // what came of other events is no answer
  })

  const rowsText = (n: number) => `${count(n)} ${n === 1 ? 'row' : 'rows'}`
  function seen(m: Schemas['Moment']): string {
    return m.event.length > 120 ? `${m.event.slice(0, 119)}…` : m.event
  }
  const past = computed(() => moments.value.slice(0, at.value))
  const dots = computed(() => past.value.flatMap((m, i) => (m.time ? [{ arrival: i, at: Date.parse(m.time), late: m.late, text: `${m.time}\n${seen(m)}`, right: right.value.has(i) }] : [])))
  // Where a join reads several sources, the least of their watermarks is what counts.
  const watermark = computed(() => {
    const last = new Map<string, number>()
    return past.value.flatMap((m, i) => {
      if (!m.after) return []
      last.set(m.source, Date.parse(m.after))
      if (!joined.value.length) return [{ arrival: i, at: Date.parse(m.after) }]
      return last.size < sources.value.length ? [] : [{ arrival: i, at: Math.min(...last.values()) }]
    })
  })
  const windowed = computed(() => [...new Set((played.data.value?.windows ?? []).map((w) => w.step))])
  const step = ref('')
  watch(windowed, (w) => w.includes(step.value) || (step.value = w[0] ?? ''), { immediate: true })
  const keys = computed(() => [...new Set((played.data.value?.windows ?? []).filter((w) => w.step === step.value).map((w) => w.key))].filter(Boolean).sort())
  const key = ref('all')
  watch(keys, (k) => k.includes(key.value) || (key.value = 'all'))
  const measures = computed(() => {
    const fields = played.data.value?.parts.find((p) => p.name === step.value)?.fields.map((f) => f.split(' ')[0]!) ?? []
    const from = fields.indexOf('window_end')
    return fields.slice(from + 1).filter((f) => !['revision', 'closed', 'withdrawn'].includes(f))
  })
  /** The event that is pointed at, from 0; null for none. */
  const pointed = ref<number | null>(null)
  watch(lines, () => (pointed.value = null))
  /** Whether a window has been withdrawn by now. */
  const gone = (w: Schemas['Band']) => w.withdrawn && w.published.at(-1)! < at.value
  const windowsOf = (event: number | null) => (event === null ? [] : (moments.value[event]?.windows ?? []))
  /** The windows of the step so far, of all keys or the chosen one, each with what it holds. */
  const held = computed<Held[]>(() => {
    const all = played.data.value?.windows ?? []
    const bounds = [...new Set(bands.value.map((b) => `${b.start} ${b.end}`))]
    return all
      .map((w, n) => ({ w, n }))
      .filter(({ w }) => w.step === step.value && (key.value === 'all' || w.key === key.value) && w.opened < at.value)
      .map(({ w, n }) => {
        const events = past.value.flatMap((m, i) => (m.windows.includes(n) ? [i + 1] : []))
        const rows = (w.rows as Record<string, unknown>[]).filter((_, i) => w.published[i]! < at.value)
        const row = rows.at(-1)
        const state = row?.withdrawn === true ? 'withdrawn' : !row || row.closed === false ? 'open' : rows.filter((r) => r.closed !== false).length > 1 ? 'corrected' : 'closed'
        return {
          number: 1 + bounds.indexOf(`${Date.parse(w.start)} ${Date.parse(w.end)}`), key: w.key, from: w.start, to: w.end,
          state, events: state === 'withdrawn' ? [] : events, holds: row && state !== 'withdrawn' ? measures.value.map((m) => `${m} ${typeof row[m] === 'number' ? Math.round((row[m] as number) * 100) / 100 : String(row[m])}`).join(', ') : '',
          lit: state !== 'withdrawn' && windowsOf(pointed.value).includes(n),
        }
      })
      .toSorted((a, b) => a.number - b.number || a.key.localeCompare(b.key))
  })
  const bands = computed(() => {
    const mine = (played.data.value?.windows ?? []).filter((w) => w.step === step.value && (key.value === 'all' || w.key === key.value) && w.opened < at.value)
    // All keys together: a window is one band, closed when its first row came.
    const by = new Map<string, typeof mine>()
    for (const w of mine.toSorted((a, b) => Date.parse(a.start) - Date.parse(b.start) || Date.parse(a.end) - Date.parse(b.end))) {
      const id = `${w.start} ${w.end}`
      by.set(id, [...(by.get(id) ?? []), w])
    }
    return [...by.values()].map((list, n) => {
      const w = list[0]!
      const closed = Math.min(...list.map((x) => x.closed))
      const row = (w.rows.at(-1) ?? {}) as Record<string, unknown>
      const first = measures.value[0] ?? ''
      const whole = list.map((x) => (x.rows.at(-1) as Record<string, unknown>)[first])
      const sum = whole.every((v) => Number.isInteger(v)) ? `, ${first} ${count(whole.reduce((n: number, v) => n + (v as number), 0))}` : ''
      const total = list.length > 1 ? `${list.length} keys${sum}` : measures.value.slice(0, 2).map((m) => `${m} ${typeof row[m] === 'number' ? Math.round((row[m] as number) * 100) / 100 : String(row[m])}`).join(', ')
      const corrected = list.some((x) => x.rows.length > 1)
      return {
        start: Date.parse(w.start), end: Date.parse(w.end), opened: Math.min(...list.map((x) => x.opened)), closed: Math.min(closed, at.value - 0.5),
        done: closed < at.value,
        text: list.every((x) => gone(x)) ? `${n + 1}: withdrawn` : closed < at.value ? `${n + 1}: ${total || first}${corrected ? ', corrected' : ''}` : `${n + 1}`, withdrawn: list.every((x) => gone(x)),
        lit: list.some((x) => !gone(x) && windowsOf(pointed.value).includes(played.data.value!.windows.indexOf(x))),
      }
    })
  })
  const joined = computed(() => [...new Set((played.data.value?.reaches ?? []).map((r) => r.step))])
  /** The pairs that were made so far, and how far each row of the join reaches. */
  const pairs = computed(() =>
    (played.data.value?.pairs ?? [])
      .filter((p) => joined.value[0] === p.step && Math.max(p.left, p.right) < at.value)
      .map((p) => ({ left: p.left, right: p.right, leftAt: Date.parse(p.left_time), rightAt: Date.parse(p.right_time), text: `${p.key}\n${p.left_time}\n${p.right_time}` })),
  )
  const reaches = computed(() =>
    (played.data.value?.reaches ?? [])
      .filter((r) => joined.value[0] === r.step && r.moment < at.value && r.side === 'left')
      .slice(at.value > 80 ? -1 : 0) // of many events the newest alone: bars would hide the rest
      .map((r) => ({ arrival: r.moment, from: Date.parse(r.from), to: Date.parse(r.to), text: `${r.key}: partners from ${r.from}\nto ${r.to}` })),
  )
  /** Which arrivals are of the right side of the join that is shown. */
  const right = computed(() => new Set((played.data.value?.reaches ?? []).filter((r) => joined.value[0] === r.step && r.side === 'right').map((r) => r.moment)))
  const sentence = computed(() => {
    const m = moments.value[at.value - 1]
    if (!lines.value.length) return 'Choose a lesson, take events from the stream, or write one by hand.'
    if (!m) return `${lines.value.length} events wait. ▶ gives the next.`
    if (at.value === moments.value.length) return `The end of all input: the watermark passes everything, and what was open closes. ${rowsText(m.rows.length)}.`
    if (m.clock) return `${m.clock} pass. ${m.rows.length ? `${rowsText(m.rows.length)}.` : ''}`
    if (m.reject) return `Event ${at.value} is a reject: ${m.reject}.`
    const parts = [`Event ${at.value} happened at ${moment(m.time)}`]
    if (m.late && m.before && m.time) parts.push(`it is late: the watermark stood at ${moment(m.before)}, ${span((Date.parse(m.before) - Date.parse(m.time)) / 1000)} beyond it`)
    else if (m.after && m.after !== m.before) parts.push(`the watermark goes on to ${moment(m.after)}`)
    else if (m.after) parts.push(`the watermark stays at ${moment(m.after)}`)
    const published = m.rows.filter((r) => windowed.value.includes(r.part)).length
    if (published) parts.push(`${published} ${published === 1 ? 'window closes or is corrected' : 'windows close or are corrected'}`)
    const lost = m.rows.filter((r) => r.part.startsWith('late of')).map((r) => r.part.slice(8))
    if (lost.length) parts.push(`it is lost to ${lost.join(', ')}`)
    return `${parts.join('; ')}.`
  })
  const shownParts = computed(() =>
    (played.data.value?.parts ?? [])
      .map((p) => {
        const found = past.value.flatMap((m, i) => m.rows.filter((r) => r.part === p.name).map((r) => ({ row: r.row as Record<string, unknown>, at: i + 1 })))
        found.reverse()
        return { name: p.name, fields: p.fields, count: found.length, rows: found.slice(0, 100).map((f) => f.row), at: found.map((f) => (f.at > lines.value.length ? 'the end' : String(f.at))) }
      })
      .filter((p) => p.rows.length)
      .reverse(),
  )
  /** Takes other events, and goes back to the beginning. */
  function give(all: Line[]) {
    lines.value = all
    at.value = 0
  }
  /** Adds an event, and goes to it. */
  async function add(line: Line) {
    const next = [...lines.value, line]
    lines.value = next
    await played.ask()
    at.value = next.length
  }
  return { source, pointed, held, lines, at, order, played, moments, dots, watermark, bands, pairs, reaches, joined, windowed, step, keys, key, sentence, shownParts, give, add }
}
