<template>
  <StateNote v-if="!events.length" :loading="loading || following" :problem="problem">{{ following ? 'Waiting for the next event …' : 'No events.' }}</StateNote>
  <div v-else class="scroll list" tabindex="0">
    <table class="plain">
      <thead><tr><th>partition</th><th class="num">offset</th><th>stored (UTC)</th><th>key</th><th>as it is stored</th><th>decoded</th></tr></thead>
      <tbody>
        <tr v-for="e in events.slice(0, 200)" :key="`${e.partition} ${e.offset}`">
          <td>{{ e.partition }}</td>
          <td class="num">{{ count(e.offset) }}</td>
          <td class="nowrap" :title="e.stored ?? ''">{{ moment(e.stored) }}</td>
          <td class="nowrap"><span v-if="e.key === null" class="null">null</span><template v-else>{{ e.key }}</template></td>
          <td class="mono raw"><template v-if="e.pieces.length"><span v-for="(p, i) in e.pieces" :key="i" :class="hue(e, p.field)" :title="p.field || undefined">{{ p.text }}</span></template><template v-else>{{ e.bytes ? e.text : '(no value)' }}</template><span v-if="e.cut" class="soft"> … {{ count(e.bytes) }} bytes</span><div v-for="h in e.headers" :key="h.name" class="soft">{{ h.name }}: {{ h.value }}</div></td>
          <td class="decoded"><span v-if="e.reason" class="bad">✕ {{ e.reason }}</span><span v-for="d in e.decoded" :key="d.name" class="pair"><span class="soft">{{ d.name }}</span> <span :class="hue(e, d.name)">{{ d.value }}</span></span></td>
        </tr>
      </tbody>
    </table>
    <p v-if="events.length > 200" class="soft">{{ count(events.length - 200) }} more were read and count in the profile.</p>
  </div>
</template>

<script setup lang="ts">
import { count, moment } from '../format'
import type { Problem, Schemas } from '../http'
import StateNote from './StateNote.vue'

defineProps<{
  /** In the order in which they are to stand. */
  events: Schemas['RawEvent'][]
  loading: boolean
  problem: Problem | null
  following: boolean
}>()

/** The colour of a field of an event that is cut into pieces; none of one that is not. */
function hue(e: Schemas['RawEvent'], field: string): string {
  const fields = [...new Set(e.pieces.map((p) => p.field).filter(Boolean))]
  const at = fields.indexOf(field)
  return at < 0 ? '' : `hue${at % 6}`
}
</script>

<style scoped>
.list { max-height: 560px; }
.raw { max-width: 460px; overflow-wrap: anywhere; font-size: 11px; }
.decoded { font-size: 11.5px; }
.pair { display: inline-block; margin-right: 10px; white-space: nowrap; }
.hue0 { background: color-mix(in srgb, #2a9d8f 24%, transparent); }
.hue1 { background: color-mix(in srgb, #e9c46a 34%, transparent); }
.hue2 { background: color-mix(in srgb, #9b5de5 20%, transparent); }
.hue3 { background: color-mix(in srgb, #90be6d 32%, transparent); }
.hue4 { background: color-mix(in srgb, #577590 26%, transparent); }
.hue5 { background: color-mix(in srgb, #f3722c 22%, transparent); }
[class^='hue'] { border-radius: 2px; }
.null { color: var(--amber); font-weight: 600; }
</style>
