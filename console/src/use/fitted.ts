import { useVueFlow } from '@vue-flow/core'
import { computed, onScopeDispose, ref, watch, type Ref } from 'vue'

/** Below this the words of a part cannot be read: what does not fit is moved about instead. */
const readable = 0.8
const most = 1.5

/**
 * Keeps a map readable: whole where all of it fits, else from its left side, to be moved and made smaller or larger. The box is not
 * as wide as the window all the time: a page that grows gets a scroll bar. settle is called once the parts have their size.
 */
export function useFitted(box: Readonly<Ref<HTMLElement | null>>) {
  const { fitView, getNodes, viewport, setViewport, zoomTo, findNode } = useVueFlow()
  /** Whether people have moved it: then it stays as they left it. */
  const moved = ref(false)
  const whole = ref(true)

  /** The bounds of all parts, in the map's own measure. */
  const bounds = computed(() => {
    const n = getNodes.value
    if (!n.length) return null
    const right = Math.max(...n.map((x) => x.position.x + Number(x.dimensions.width)))
    const below = Math.max(...n.map((x) => x.position.y + Number(x.dimensions.height)))
    return { width: right, height: below }
  })

  function settle() {
    const b = bounds.value
    const at = box.value?.getBoundingClientRect()
    if (!b || !at || moved.value) return
    const fits = Math.min((at.width - 8) / b.width, (at.height - 8) / b.height)
    whole.value = fits >= readable
    if (whole.value) void fitView({ padding: 0.01, maxZoom: 1 })
    else void setViewport({ x: 4, y: Math.max(4, (at.height - b.height * readable) / 2), zoom: readable })
  }
  function zoom(by: number) {
    moved.value = true
    void zoomTo(Math.min(most, Math.max(0.2, viewport.value.zoom * by)))
  }
  /** All of it, however small. */
  function showWhole() {
    moved.value = true
    void fitView({ padding: 0.01, maxZoom: 1, minZoom: 0.1 })
  }
  function move(byX: number, byY: number) {
    moved.value = true
    void setViewport({ ...viewport.value, x: viewport.value.x + byX, y: viewport.value.y + byY })
  }
  /** Moves it as far as a part is in sight, for who comes to it by the keyboard or from elsewhere. */
  function reveal(id: string) {
    const n = findNode(id)
    const at = box.value
    if (!n || !at) return
    for (const e of at.querySelectorAll('*')) if (e.scrollLeft || e.scrollTop) e.scrollTo(0, 0) // what browsers scroll to show a focus
    const { x, y, zoom: z } = viewport.value
    const left = n.position.x * z + x
    const top = n.position.y * z + y
    const right = left + Number(n.dimensions.width) * z
    const bottom = top + Number(n.dimensions.height) * z
    const edge = 8
    const byX = left < edge ? edge - left : right > at.clientWidth - edge ? at.clientWidth - edge - right : 0
    const byY = top < edge ? edge - top : bottom > at.clientHeight - edge ? at.clientHeight - edge - bottom : 0
    if (byX || byY) move(byX, byY)
  }
  /** The arrow keys move it, + and - make it larger and smaller, 0 shows the whole. */
  function key(e: KeyboardEvent) {
    const does = { ArrowLeft: () => move(80, 0), ArrowRight: () => move(-80, 0), ArrowUp: () => move(0, 60), ArrowDown: () => move(0, -60), '+': () => zoom(1.25), '-': () => zoom(0.8), 0: showWhole }[e.key]
    if (!does || e.ctrlKey || e.metaKey || e.altKey) return
    e.preventDefault()
    does()
  }
  const seen = new ResizeObserver(() => requestAnimationFrame(settle))
  watch(box, (b) => b && seen.observe(b), { flush: 'post', immediate: true })
  onScopeDispose(() => seen.disconnect())
  return { settle, zoom, showWhole, reveal, key, whole, moved }
}
