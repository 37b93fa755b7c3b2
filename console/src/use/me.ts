import { computed, inject, onScopeDispose, provide, shallowRef, type Directive, type InjectionKey } from 'vue'

import { ask, asProblem, post, SIGNED_OUT, type Problem, type Schemas } from '../http'

export type Me = Schemas['Me']
export type Role = 'reader' | 'engineer' | 'keeper'

const ranks: Role[] = ['reader', 'engineer', 'keeper']

/** Says whether who has a role may do what needs another. */
export function covers(role: string, need: Role): boolean {
  return ranks.indexOf(role as Role) >= ranks.indexOf(need)
}

/** A role behind its article, as sentences have it. */
export function aRole(role: string): string {
  return role === 'engineer' ? `an ${role}` : `a ${role}`
}

/** Says what is lacking, and whom to ask: empty for nothing. */
export function lacking(me: Me | null, need: Role): string {
  if (!me || covers(me.role, need)) return ''
  const whom = me.keepers.length ? `Ask ${me.keepers.slice(0, 5).join(', ')}.` : 'Ask a keeper.'
  return `This needs a right of the ${need}; you are ${aRole(me.role)}. ${whom}`
}

// Who asks, for the directive: there is one page, and one who looks at it.
const now = shallowRef<Me | null>(null)

function know() {
  const problem = shallowRef<Problem | null>(null)
  async function refresh() {
    try {
      now.value = await ask<Me>('/me')
      problem.value = null
    } catch (e) {
      problem.value = asProblem(e)
    }
  }
  async function signOut() {
    await post('/sign-out')
    await refresh()
  }
  const gone = () => void refresh()
  window.addEventListener(SIGNED_OUT, gone)
  const again = setInterval(() => void (problem.value && refresh()), 2000)
  onScopeDispose(() => {
    window.removeEventListener(SIGNED_OUT, gone)
    clearInterval(again)
  })
  void refresh()
  const asks = computed(() => !!now.value && now.value.asks && !now.value.signed_in)
  return { me: now, problem, asks, refresh, signOut, may: (need: Role) => lacking(now.value, need) === '' }
}

const key: InjectionKey<ReturnType<typeof know>> = Symbol('me')

/** Who looks at the console, and what they may do. */
export function provideMe() {
  const me = know()
  provide(key, me)
  return me
}

export function useMe() {
  const me = inject(key)
  if (!me) throw new Error('useMe outside App')
  return me
}

/** Whatever a hand does to a control that is lacking. */
const hands = ['click', 'keydown'] as const

function refuse(e: Event) {
  if (e instanceof KeyboardEvent && e.key !== 'Enter' && e.key !== ' ') return
  const el = e.currentTarget as HTMLElement
  if (el.dataset.lacks) {
    e.preventDefault()
    e.stopImmediatePropagation()
  }
}

function show(el: HTMLElement, need: Role) {
  const lacks = lacking(now.value, need)
  if (lacks === (el.dataset.lacks ?? '')) return
  if (lacks) {
    el.dataset.lacks = lacks
    el.title = lacks
    el.setAttribute('aria-disabled', 'true')
  } else {
    delete el.dataset.lacks
    el.removeAttribute('title')
    el.removeAttribute('aria-disabled')
  }
  el.classList.toggle('lacks', lacks !== '')
}

/**
 * v-needs="'engineer'": a control that needs a role is shown as lacking to who does not have it, with whom to ask. It can still be come to, so that what it says
 * can be heard; it does nothing.
 */
export const vNeeds: Directive<HTMLElement, Role> = {
  beforeMount(el) {
    for (const kind of hands) el.addEventListener(kind, refuse, { capture: true })
  },
  mounted: (el, { value }) => show(el, value),
  updated: (el, { value }) => show(el, value),
}
