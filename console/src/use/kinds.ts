// The kinds of connectors and the formats that the service has, with their settings: asked for once.
import { shallowRef } from 'vue'

import { ask, type Schemas } from '../http'

export type Described = Schemas['Setting']
export type Connector = Schemas['Connector']

export const kinds = shallowRef<Schemas['Kinds']>({ connectors: [], formats: [] })

let asked: Promise<void> | undefined

export function loadKinds(): Promise<void> {
  asked ??= ask<Schemas['Kinds']>('/kinds').then(
    (k) => {
      kinds.value = k
    },
    () => {
      asked = undefined // the next who needs them asks again
    },
  )
  return asked
}

export function connector(name: unknown): Connector | undefined {
  return kinds.value.connectors.find((k) => k.name === name)
}
