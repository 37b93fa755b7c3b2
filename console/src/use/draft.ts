import { computed, ref, shallowRef, watch } from 'vue'

import { outline } from '../document/outline'
import { asProblem, post, type Problem, type Schemas } from '../http'

export type Checked = Schemas['Checked']

// One draft for the page, kept in the tab while it is open: Streams begins it, Build changes it, Try plays it.
const kept = 'undertide draft'
const text = ref(sessionStorage.getItem(kept) ?? '')
/** The job and version that the draft was made of; empty for none. */
const origin = ref(sessionStorage.getItem(`${kept} of`) ?? '')
const checked = shallowRef<Checked | null>(null)
const problem = shallowRef<Problem | null>(null)
const checking = ref(false)

let timer: ReturnType<typeof setTimeout> | undefined
let asked = 0

async function check() {
  const n = ++asked
  if (!text.value.trim()) {
    checked.value = null
    return
  }
  checking.value = true
  try {
    const got = await post<Checked>('/documents/check', { document: text.value })
    if (n !== asked) return
    checked.value = got
    problem.value = null
  } catch (e) {
    if (n === asked) problem.value = asProblem(e)
  } finally {
    if (n === asked) checking.value = false
  }
}

watch(
  text,
  () => {
    sessionStorage.setItem(kept, text.value)
    clearTimeout(timer)
    timer = setTimeout(() => void check(), 250)
  },
  { immediate: true },
)
watch(origin, () => sessionStorage.setItem(`${kept} of`, origin.value))

/** The plan of the text as the service reads it; where it has faults, what its text shows. */
const plan = computed(() => checked.value?.plan ?? outline(text.value))

/** The document that is being written, and what the service says of it. */
export function useDraft() {
  return {
    text, origin, checked, problem, checking, plan,
    /** Begins anew with a text; of says which job and version it was made of. */
    begin(document: string, of = '') {
      text.value = document
      origin.value = of
    },
  }
}

/** The name of the part (source, step, sink) that a line belongs to; empty for none. */
export function partAt(c: Checked | null, line: number): string {
  for (const [name, p] of Object.entries(c?.places ?? {})) if (line >= p.from && line <= p.to) return name
  return ''
}
