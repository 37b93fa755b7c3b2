<template>
  <EnterPlace v-if="route.path === '/enter'" />
  <main v-else-if="!me.me.value" class="door"><StateNote :loading="true" :problem="me.problem.value" /></main>
  <SignInPlace v-else-if="me.asks.value" />
  <PlacesFrame v-else :key="me.me.value.name" />
</template>

<script setup lang="ts">
import { useRoute } from 'vue-router'

import PlacesFrame from './parts/PlacesFrame.vue'
import StateNote from './parts/StateNote.vue'
import EnterPlace from './places/EnterPlace.vue'
import SignInPlace from './places/SignInPlace.vue'
import { provideMe } from './use/me'
import { useTheme } from './use/theme'

const me = provideMe()
const route = useRoute()
useTheme() // also of who has not signed in
</script>

<style>
.door { min-height: 100vh; display: grid; place-items: center; padding: 20px; }
.door form { width: 400px; max-width: 100%; padding: 22px 26px; }
.door h1 { margin-bottom: 12px; }
.door .mark { display: flex; gap: 8px; align-items: center; font-weight: 650; margin: 0 0 16px; }
.door .field { margin-bottom: 10px; }
.door code { font-size: 11.5px; }
.lacks { opacity: 0.55; cursor: not-allowed !important; }
</style>
