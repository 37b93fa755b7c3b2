import type { components } from './api'

export type Schemas = components['schemas']
export type Problem = Schemas['Problem']

const base = '/api/v1'

export function address(path: string): string {
  return base + path
}

/** An event of the window: the service does not know (any more) who asks. */
export const SIGNED_OUT = 'signed-out'

/** What a problem says to people. */
export function said(p: Problem): string {
  const text = [p.detail || p.title, p.fix].filter(Boolean).join('; ')
  return text.charAt(0).toUpperCase() + text.slice(1) + '.'
}

/** What is said when no service answers. */
const away: Problem = {
  type: 'about:blank',
  code: 'service-unreachable',
  title: 'the service does not answer',
  status: 0,
  detail: 'the service does not answer',
  fix: 'look whether it still runs; this page goes on by itself when it does',
}

/** Asks the API; throws a Problem. */
export async function ask<T>(path: string, init?: RequestInit): Promise<T> {
  let res: Response
  try {
    res = await fetch(address(path), init)
  } catch {
    throw away
  }
  if (res.status === 204) return undefined as T
  if (res.ok) return (await res.json()) as T
  let p: Problem | undefined
  try {
    p = (await res.json()) as Problem
  } catch {
    p = undefined
  }
  if (p?.code === 'not-signed-in') window.dispatchEvent(new Event(SIGNED_OUT))
  throw p?.code ? p : { ...away, detail: `the service answered ${res.status}` }
}

export function post<T>(path: string, body: unknown = {}): Promise<T> {
  return ask<T>(path, { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body) })
}

export function asProblem(e: unknown): Problem {
  if (typeof e === 'object' && e !== null && 'code' in e) return e as Problem
  return { ...away, detail: String(e), fix: '' }
}

export function put<T>(path: string, body: unknown): Promise<T> {
  return ask<T>(path, { method: 'PUT', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body) })
}

export function remove(path: string): Promise<void> {
  return ask<void>(path, { method: 'DELETE' })
}

/** A part of an address, escaped. */
export const part = encodeURIComponent

/** A list that is given whole. */
export interface ListOf<N extends keyof Schemas> {
  items: Schemas[N][]
}
