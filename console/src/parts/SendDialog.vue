<template>
  <ElDialog :model-value="true" :title="`Send to ${topic}`" width="640px" @close="close">
    <p class="soft">Events as they are to be stored, one a line.</p>
    <ElInput v-model="text" type="textarea" :rows="8" class="mono" aria-label="Events to send" />
    <div class="how">
      <label for="s-key">message key</label>
      <ElInput id="s-key" v-model="key" size="small" placeholder="a field of JSON events; empty: none" />
      <label for="s-pace">pace</label>
      <ElSelect id="s-pace" v-model="pace" size="small"><ElOption v-for="p in paces" :key="p.name" :value="p.name" :label="p.name" /></ElSelect>
    </div>
    <p v-if="sent" role="status">Sent {{ count(sent) }} of {{ count(lines.length) }} events.</p>
    <div v-if="bad" class="notice bad" role="alert">{{ bad }}</div>
    <div v-if="sending.problem.value" class="notice bad" role="alert">{{ sending.problem.value.detail }}; {{ sending.problem.value.fix }}.</div>
    <template #footer>
      <ElButton @click="close">Close</ElButton>
      <ElButton type="primary" :loading="going" :disabled="!lines.length" @click="send">Send {{ count(lines.length) }}</ElButton>
    </template>
  </ElDialog>
</template>

<script setup lang="ts">
import { ElButton, ElDialog, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, onScopeDispose, ref } from 'vue'

import { count } from '../format'
import type { Schemas } from '../http'
import { useAsked } from '../use/asked'
import { topics } from '../use/streams'

const props = defineProps<{
  connection: string
  topic: string
  /** What to begin with: an event of the topic. */
  like: string
}>()
const emit = defineEmits<{ close: [] }>()

/** How many go in one request, and how long after it the next does, in milliseconds. */
const paces = [
  { name: 'full', many: 1000, every: 0 },
  { name: '1/s', many: 1, every: 1000 },
  { name: '10/s', many: 2, every: 200 },
  { name: '200/s', many: 40, every: 200 },
]
const text = ref(props.like)
const key = ref('')
const pace = ref('full')
const lines = computed(() => text.value.split('\n').filter((l) => l.trim()))
const sent = ref(0)
const going = ref(false)
const bad = ref('')
let closed = false
onScopeDispose(() => (closed = true))

const sending = useAsked((events: Schemas['NewEvent'][]) => topics.send(props.connection, props.topic, events))

function event(line: string, n: number): Schemas['NewEvent'] {
  if (!key.value.trim()) return { key: null, text: line }
  let v: unknown
  try {
    v = (JSON.parse(line) as Record<string, unknown>)[key.value.trim()]
  } catch {
    throw new Error(`line ${n + 1} is not a JSON object, so that the message key finds nothing in it; leave the key empty for other events`)
  }
  return { key: v === undefined || v === null ? null : String(v), text: line }
}
async function send() {
  bad.value = ''
  sent.value = 0
  let events: Schemas['NewEvent'][]
  try {
    events = lines.value.map(event)
  } catch (e) {
    bad.value = (e as Error).message
    return
  }
  const p = paces.find((x) => x.name === pace.value)!
  going.value = true
  for (let i = 0; i < events.length && !closed; i += p.many) {
    if (i > 0 && p.every) await new Promise((r) => setTimeout(r, p.every))
    const part = events.slice(i, i + p.many)
    if (!(await sending.ask(part))) break
    sent.value += part.length
  }
  going.value = false
}
function close() {
  closed = true
  emit('close')
}
</script>

<style scoped>
.how { display: grid; grid-template-columns: auto minmax(0, 1fr) auto 110px; gap: 8px; align-items: center; margin-top: 10px; }
</style>
