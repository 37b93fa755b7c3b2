import { onMounted, onScopeDispose, ref, type Ref } from 'vue'

/** Whether an element has come near to what is seen; stays so once it has. What costs is drawn when somebody is about to see it. */
export function useNear(element: Readonly<Ref<HTMLElement | null>>): Ref<boolean> {
  const near = ref(false)
  const watcher = new IntersectionObserver((entries) => {
    if (!entries.some((e) => e.isIntersecting)) return
    near.value = true
    watcher.disconnect()
  }, { rootMargin: '300px' })
  onMounted(() => element.value && watcher.observe(element.value))
  onScopeDispose(() => watcher.disconnect())
  return near
}
