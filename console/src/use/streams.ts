import { ask, part, post, put, remove, type Schemas } from '../http'

export type Connection = Schemas['Connection']
export type Topic = Schemas['Topic']
export type Peek = Schemas['Peek']

const at = (connection: string) => `/connections/${part(connection)}`

export const connections = {
  put: (name: string, spec: Schemas['ConnectionSpec']) => put<Connection>(at(name), spec),
  remove: (name: string) => remove(at(name)),
  test: (name: string, topic = '') => post<Schemas['Tried']>(`${at(name)}/test${topic ? `?topic=${part(topic)}` : ''}`),
}

export const secrets = {
  remove: (name: string) => remove(`/secrets/${part(name)}`),
}

export const topics = {
  make: (connection: string, name: string, partitions: number) => post<Schemas['NewTopic']>(`${at(connection)}/topics`, { name, partitions }),
  /** Where events of a topic are asked for. from is newest, oldest, or a time or duration. */
  events: (connection: string, topic: string, from: string, limit: number) => {
    const place = from === 'newest' || from === 'oldest' ? `from=${from}` : `from=time&at=${part(from)}`
    return `${at(connection)}/topics/${part(topic)}/events?${place}&limit=${limit}`
  },
  peek: (connection: string, topic: string, from: string, limit: number) => ask<Peek>(topics.events(connection, topic, from, limit)),
  send: (connection: string, topic: string, events: Schemas['NewEvent'][]) => post<Schemas['SentCount']>(`${at(connection)}/topics/${part(topic)}/events`, { events }),
  begin: (connection: string, topic: string, purpose: string) => ask<Schemas['Document']>(`${at(connection)}/topics/${part(topic)}/document?purpose=${part(purpose)}`),
}

export const schemas = {
  /** Where the schemas of a connection's registry are asked for. */
  at: (connection: string) => `${at(connection)}/schemas`,
  check: (connection: string, subject: string, text: string) => post<Schemas['Fits']>(`${at(connection)}/schemas/check`, { subject, text }),
  register: (connection: string, subject: string, text: string) => post<Schemas['Schema']>(`${at(connection)}/schemas`, { subject, text }),
}

export const describedSources = {
  put: (name: string, d: Schemas['DescribedText']) => put<Schemas['Described']>(`/sources/${part(name)}`, d),
  remove: (name: string) => remove(`/sources/${part(name)}`),
}
