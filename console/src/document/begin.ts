/** A document whose events are made up: it needs no broker, only a folder for its rows. */
export const madeUp = `undertide: 1
job: readings
about: Readings of made-up gauges, their mean by minute

sources:
  readings:
    via: simulate
    with:
      rate: 10/s
      fields:
        gauge: {pick: [G01, G02, G03]}
        level_m: {wave: {period: 12h24m, low: 0.4, high: 3.1}}
        read_at: {now: true}
    fields: {gauge: string, level_m: double, read_at: timestamp}
    event_time: read_at
    watermark: {margin: 2s}

steps:
  minute:
    from: readings
    key: [gauge]
    window: {tumbling: 1m}
    measures:
      readings: count()
      mean_m: mean(level_m)

sinks:
  # A folder that the service may use: serve --files FOLDER.
  means: {from: minute, via: file, with: {path: /srv/readings/}}
`
