import { computed, ref, shallowRef, watch } from 'vue'

import { outline } from '../document/outline'
import { asProblem, post, type Problem, type Schemas } from '../http'
import { sure } from './sure'

export type Checked = Schemas['Checked']

// One draft for the page, kept in the tab while it is open: Streams begins it, Build changes it, Try plays it.
const kept = 'undertide draft'
const text = ref(sessionStorage.getItem(kept) ?? '')
/** The job and version that the draft was made of; empty for none. */
const origin = ref(sessionStorage.getItem(`${kept} of`) ?? '')
/** The text as it was begun or saved: what differs from it is nobody's but the draft's. */
const base = ref(sessionStorage.getItem(`${kept} base`) ?? '')
const checked = shallowRef<Checked | null>(null)
/** The text that checked is of: an answer may come when the text has gone on. */
const checkedText = ref('')
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
    const document = text.value
    const got = await post<Checked>('/documents/check', { document })
    if (n !== asked) return
    checkedText.value = document
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
watch(base, () => sessionStorage.setItem(`${kept} base`, base.value))

/** The number of the version that the draft was made of; empty for none. */
const madeFrom = computed(() => / version (\d+)$/.exec(origin.value)?.[1] ?? '')

/** The plan of the text as the service reads it; where it has faults, what its text shows. */
const plan = computed(() => checked.value?.plan ?? outline(text.value))

/** The document that is being written, and what the service says of it. */
export function useDraft() {
  return {
    text, origin, madeFrom, base, checked, checkedText, problem, checking, plan,
    /**
     * Begins anew with a text; of says which job and version it was made of. A draft with changes that were not saved is
     * not lost unasked: false when it stays.
     */
    async begin(document: string, of = ''): Promise<boolean> {
      const loses = text.value.trim() !== '' && text.value !== base.value && text.value !== document
      if (loses && !(await sure(`Your draft${origin.value ? ` of ${origin.value}` : ''} has changes that were not saved. Leave them behind?`, 'Leave them behind'))) return false
      text.value = base.value = document
      origin.value = of
      return true
    },
    /** Notes that the text was saved as a version of a job. */
    saved(text: string, of: string) {
      base.value = text
      origin.value = of
    },
  }
}

/** The name of the part (source, step, sink) that a line belongs to; empty for none. */
export function partAt(c: Checked | null, line: number): string {
  for (const [name, p] of Object.entries(c?.places ?? {})) if (line >= p.from && line <= p.to) return name
  return ''
}
