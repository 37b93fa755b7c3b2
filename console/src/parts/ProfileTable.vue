<template>
  <div class="scroll" tabindex="0">
    <p v-if="profile.malformed || profile.empty" class="notice">{{ count(profile.malformed) }} events do not read as the others do, {{ count(profile.empty) }} have no value.</p>
    <table class="plain">
      <thead><tr><th>field</th><th>holds</th><th class="num">values</th><th class="num">null</th><th class="num">missing</th><th class="num">distinct</th><th>least</th><th>greatest</th><th>most common</th></tr></thead>
      <tbody>
        <tr>
          <td><em>message key</em></td><td>{{ profile.key.same ? `= ${profile.key.same}` : '' }}</td>
          <td class="num">{{ count(profile.events - profile.key.null) }}</td><td class="num" :class="{ warn: profile.key.null }">{{ count(profile.key.null) }}</td><td /><td class="num">{{ count(profile.key.distinct) }}</td><td /><td />
          <td><CommonBars :values="profile.key.common" /></td>
        </tr>
        <tr v-for="f in profile.fields" :key="f.path">
          <td>{{ f.path }}</td><td>{{ Object.keys(f.kinds).sort().join(', ') }}</td>
          <td class="num">{{ count(f.values) }}</td><td class="num" :class="{ warn: f.null }">{{ count(f.null) }}</td><td class="num" :class="{ warn: f.missing }">{{ count(f.missing) }}</td>
          <td class="num">{{ f.more ? '> ' : '' }}{{ count(f.distinct) }}</td><td>{{ f.least }}</td><td>{{ f.greatest }}</td>
          <td><CommonBars :values="f.common" /></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script setup lang="ts">
import { count } from '../format'
import type { Schemas } from '../http'
import CommonBars from './CommonBars.vue'

defineProps<{ profile: Schemas['Profile'] }>()
</script>
