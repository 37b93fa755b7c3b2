<template>
  <div>
    <p>
      Read as <strong>{{ inference.decode }}</strong><template v-for="(text, name) in inference.settings" :key="name"> by {{ name }} <code class="mono">{{ text }}</code></template>; event time
      <strong>{{ inference.event_time }}</strong>, since {{ inference.why }}; margin <strong>{{ inference.lateness.proposed_seconds }} s</strong><template v-if="inference.key">; rows are told apart by <strong>{{ inference.key }}</strong></template>.
    </p>
    <ul v-if="inference.doubts.length" class="doubts"><li v-for="d in inference.doubts" :key="d" class="warn">◇ {{ d }}.</li></ul>
    <table class="plain">
      <thead><tr><th>field</th><th>type</th><th>where it stands</th><th>how it is written</th><th>doubts</th></tr></thead>
      <tbody>
        <tr v-for="f in inference.fields" :key="f.name">
          <td>{{ f.name }}<strong v-if="f.name === inference.event_time" class="sea"> ● event time</strong><strong v-if="f.name === inference.key" class="sea"> ● key</strong></td>
          <td>{{ f.type }}</td><td>{{ f.at || f.name }}</td><td>{{ f.parse }}</td>
          <td><div v-for="d in f.doubts" :key="d" class="warn">◇ {{ d }}</div></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script setup lang="ts">
import type { Schemas } from '../http'

defineProps<{ inference: Schemas['Inference'] }>()
</script>

<style scoped>
.doubts { list-style: none; padding: 0; margin: 0 0 8px; }
.sea { color: var(--sea); font-size: 11.5px; }
p { overflow-wrap: anywhere; }
</style>
