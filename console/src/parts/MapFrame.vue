<template>
  <div class="around">
    <div ref="box" class="map" role="group" :aria-label="`${label}: arrow keys move it, plus and minus make it larger and smaller`" :style="{ height: `${height}px` }" @keydown="key" @focusin="follow">
      <VueFlow
        :nodes="nodes" :edges="edges" :nodes-draggable="false" :nodes-connectable="false" :elements-selectable="false" :nodes-focusable="false" :edges-focusable="false"
        :zoom-on-scroll="false" :zoom-on-double-click="false" :prevent-scrolling="false" :disable-keyboard-a11y="true" :min-zoom="0.1" :max-zoom="1.5" @nodes-initialized="settle" @move="moved ||= Boolean($event.event.sourceEvent)"
      >
        <template v-for="(_, name) in $slots" #[name]="given"><slot :name="name" v-bind="given" /></template>
      </VueFlow>
    </div>
    <div v-if="!whole || moved" class="zoom" role="group" aria-label="Size of the map">
      <button type="button" aria-label="smaller" @click="zoom(0.8)">−</button>
      <button type="button" aria-label="larger" @click="zoom(1.25)">+</button>
      <button type="button" @click="showWhole">whole map</button>
    </div>
  </div>
</template>

<script setup lang="ts">
import '@vue-flow/core/dist/style.css'

import { VueFlow, type Edge, type Node } from '@vue-flow/core'
import { useTemplateRef, watch } from 'vue'

import { useFitted } from '../use/fitted'

// Parts and lines between them, in a frame in which they can be read: what does not fit is moved about. Slots are drawn for
// each kind of part, as the library names them: node-part.
const props = defineProps<{
  label: string
  nodes: Node[]
  edges: Edge[]
  /** In pixels. */
  height: number
  /** The part that is looked into; empty for none. It is brought into sight. */
  chosen?: string
}>()

const { settle, zoom, showWhole, reveal, key, whole, moved } = useFitted(useTemplateRef('box'))
/** Whoever comes to a part by the keyboard sees it. */
function follow(e: FocusEvent) {
  const id = (e.target as HTMLElement).closest<HTMLElement>('.vue-flow__node')?.dataset.id
  if (id) reveal(id)
}
watch(() => props.chosen, (name) => name && reveal(name), { flush: 'post' })
</script>

<style scoped>
.map { width: 100%; overflow: hidden; }
.zoom { display: flex; gap: 4px; justify-content: flex-end; margin-top: 6px; }
.zoom button { border: 1px solid var(--line); border-radius: 6px; background: var(--sheet); color: var(--ink); font: inherit; font-size: 12px; padding: 1px 8px; cursor: pointer; }
.zoom button:hover { border-color: var(--sea); }
</style>
