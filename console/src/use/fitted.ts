import { useVueFlow } from '@vue-flow/core'
import { onScopeDispose, watch, type Ref } from 'vue'

/** Keeps a map as large as its box: the window is not all that changes the width, a page that grows gets a scroll bar. Called once the parts have their size. */
export function useFitted(box: Readonly<Ref<HTMLElement | null>>): () => void {
  const { fitView } = useVueFlow()
  const settle = () => void fitView({ padding: 0.01, maxZoom: 1 })
  const seen = new ResizeObserver(() => requestAnimationFrame(settle))
  watch(box, (b) => b && seen.observe(b), { flush: 'post', immediate: true })
  onScopeDispose(() => seen.disconnect())
  return settle
}
