import type { Line } from '../use/play'

/** A number of a lesson's document that a slider changes, in seconds. */
export interface Dial {
  name: string
  label: string
  most: number
  step: number
  start: number
}

/** A lesson of Try: a document, a few events, and what to look at. */
export interface Lesson {
  name: string
  title: string
  /** What happens, and what to do; a paragraph each. */
  about: string[]
  /** A job document; `{NAME}s` of a dial stands for its seconds. */
  document: string
  events: Line[]
  dials: Dial[]
}

const source = (name: string, fields: string, time: string, margin: string) => `  ${name}:
    via: http
    with: {}
    fields: {${fields}, ${time}: timestamp}
    event_time: ${time}
    watermark: {margin: ${margin}, ahead: none}
`
const levels = (margin: string) => source('levels', 'gauge: string, level_m: double', 'read_at', margin)
const job = (name: string, sources: string, steps: string, from = 'minute') => `undertide: 1
job: ${name}
sources:
${sources}steps:
${steps}sinks:
  out: {from: ${from}, via: kafka, with: {connection: harbour, topic: ${name}.rows}${/revised/.test(steps) ? ', append_revisions: true' : ''}}
connections:
  harbour: {via: kafka, brokers: ["127.0.0.1:9092"]}
`

/** An event of a source, by the seconds after midnight. */
function event(source: string, fields: Record<string, unknown>, time: string, seconds: number): Line {
  const at = new Date(Date.UTC(2026, 2, 1) + seconds * 1000).toISOString().replace('.000Z', 'Z')
  return { source, text: JSON.stringify({ ...fields, [time]: at }), raw: false, clock: '' }
}
/** Two seconds that pass: time for a preview. */
const clock: Line = { source: '', text: '', raw: false, clock: '2s' }
const level = (gauge: string, metres: number, seconds: number) => event('levels', { gauge, level_m: metres }, 'read_at', seconds)
const ping = (vessel: string, knots: number, seconds: number) => event('pings', { vessel, knots }, 'sent_at', seconds)

/** The lessons, from the simplest on: the harbour's gauges, vessels, orders and cranes. */
export const lessons: Lesson[] = [
  {
    name: 'tumbling', title: 'Tumbling',
    about: [
      'Six readings of a tide gauge, counted minute by minute. The fifth was read at 00:00:55, and comes after one of 00:01:05: it was under way for longer.',
      'Press ▶ until the end. By event time the first minute has four readings and the second two: the fifth counts in the minute in which it was read. Now choose “by arrival”: three and three, since the late one falls into the minute in which it came. That is what sorting by arrival gets wrong.',
    ],
    document: job('tumbling', levels('30s'), '  minute: {from: levels, key: [gauge], window: {tumbling: 1m}, measures: {readings: count(), mean_m: mean(level_m)}}\n'),
    events: [level('G07', 1.2, 10), level('G07', 1.3, 30), level('G07', 1.3, 50), level('G07', 1.5, 65), level('G07', 1.4, 55), level('G07', 1.6, 80)],
    dials: [],
  },
  {
    name: 'sliding', title: 'Sliding',
    about: [
      'The mean of the last two minutes, renewed every minute. Windows overlap, so each reading is in two of them.',
      'Point at an event, in the list or on the chart: its windows light up, and the table says what each holds. Because each reading counts twice, rows of sliding windows must not be added up.',
    ],
    document: job('sliding', levels('10s'), '  minute: {from: levels, key: [gauge], window: {sliding: 2m, by: 1m}, measures: {readings: count(), mean_m: mean(level_m)}}\n'),
    events: [level('G07', 1.0, 20), level('G07', 2.0, 50), level('G07', 3.0, 80), level('G07', 4.0, 70), level('G07', 5.0, 150), level('G07', 6.0, 210)],
    dials: [],
  },
  {
    name: 'sessions', title: 'Sessions',
    about: [
      'When was the vessel near? A session ends after sixty seconds without a ping. The pings of 00:00:10 and 00:02:00 are further apart than that: two sessions.',
      'The third ping was sent at 00:01:05 and comes late. It is near both, and joins them into one session of three pings. Press ▶ and watch the table: results come out on each change here (publish: revised), so the two sessions are withdrawn, and one takes their place.',
    ],
    document: job('sessions', source('pings', 'vessel: string, knots: double', 'sent_at', '90s'), '  calls: {from: pings, key: [vessel], window: {session: 60s}, measures: {pings: count(), fastest_kn: max(knots)}, publish: revised}\n', 'calls'),
    events: [ping('Egret', 3, 10), clock, ping('Egret', 8, 120), clock, ping('Egret', 6, 65), clock, ping('Egret', 1, 300), ping('Egret', 2, 420)],
    dials: [],
  },
  {
    name: 'margin', title: 'Margin and accept',
    about: [
      'How long should a window wait? The margin holds the watermark back: a wider one loses fewer events, and every result comes that much later. “Accept” lets a window that has closed take late events still, and correct what it said.',
      'Go to the end ▶|, then move the sliders. With a margin of 10 s the readings of 00:00:40 and 00:00:20 are late and lost. With 50 s nothing is lost, and the first minute closes only when a reading of 00:01:50 has come. With 10 s and accept 60 s the first row comes early, and corrections follow.',
    ],
    document: job('margin', levels('{margin}s'), '  minute: {from: levels, key: [gauge], window: {tumbling: 1m}, measures: {readings: count(), mean_m: mean(level_m)}, late: {accept: {accept}s}}\n'),
    events: [level('G07', 1.0, 10), level('G07', 1.2, 55), level('G07', 1.5, 75), level('G07', 1.1, 40), level('G07', 1.7, 85), level('G07', 1.0, 20), level('G07', 1.9, 130), level('G07', 2.2, 200)],
    dials: [{ name: 'margin', label: 'margin', most: 90, step: 5, start: 10 }, { name: 'accept', label: 'accept', most: 120, step: 10, start: 0 }],
  },
  {
    name: 'join', title: 'Join',
    about: [
      'Which order was lifted, and after how long? A lift belongs to the order of the same box, if it comes within a minute after it. Dots are orders, diamonds lifts; the bar behind an order holds the times that its lift may have, and a line joins a pair.',
      'Box 2 is lifted eighty seconds after its order: too late to be its partner. Once the watermark says that nothing can come for it any more, it is given alone, and so is the lift that met no order.',
    ],
    document: job(
      'join', source('orders', 'box: int, vessel: string', 'ordered_at', '10s') + source('lifts', 'box: int, crane: string', 'lifted_at', '10s'),
      '  met: {join: {left: orders, right: lifts, match: [box], within: [0s, 1m], kind: outer}, set: {waited: lifted_at - ordered_at}}\n', 'met',
    ),
    events: [
      event('orders', { box: 1, vessel: 'Egret' }, 'ordered_at', 0), event('orders', { box: 2, vessel: 'Heron' }, 'ordered_at', 5), event('lifts', { box: 1, crane: 'C1' }, 'lifted_at', 40),
      event('orders', { box: 3, vessel: 'Egret' }, 'ordered_at', 50), event('lifts', { box: 2, crane: 'C3' }, 'lifted_at', 85), event('lifts', { box: 3, crane: 'C1' }, 'lifted_at', 95),
      event('orders', { box: 4, vessel: 'Plover' }, 'ordered_at', 180), event('lifts', { box: 4, crane: 'C2' }, 'lifted_at', 200),
    ],
    dials: [],
  },
]

/** The document of a lesson with its dials where they stand. */
export function documentOf(lesson: Lesson, dials: Record<string, number>): string {
  return lesson.dials.reduce((text, d) => text.replace(`{${d.name}}s`, `${dials[d.name] ?? d.start}s`), lesson.document)
}
