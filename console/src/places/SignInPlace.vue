<template>
  <main class="door">
    <form class="sheet" @submit.prevent="signIn">
      <p class="mark"><TideMark /> Under Tide</p>
      <h1>Sign in</h1>
      <div v-if="failure" class="notice bad" role="alert">{{ said(failure) }}</div>
      <div v-else-if="refused" class="notice bad" role="alert">{{ refused }}</div>
      <div class="field"><label for="sign-name">Name</label><ElInput id="sign-name" ref="first" v-model="name" name="username" autocomplete="username" /></div>
      <div class="field"><label for="sign-password">Password</label><ElInput id="sign-password" v-model="password" name="password" type="password" autocomplete="current-password" show-password /></div>
      <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!name || !password">Sign in</ElButton>
      <a v-if="me.me.value?.single_sign_on" class="el-button other" :href="address('/single-sign-on')">Sign in with {{ me.me.value.single_sign_on }}</a>
      <p class="soft">No password yet, or a forgotten one? A keeper of the service gives you an address where you choose one: <code>undertide people code NAME</code>.</p>
    </form>
  </main>
</template>

<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { onMounted, ref, shallowRef } from 'vue'

import { address, asProblem, post, said, type Problem } from '../http'
import TideMark from '../parts/TideMark.vue'
import { useMe } from '../use/me'

const me = useMe()
const name = ref('')
const password = ref('')
const busy = ref(false)
const failure = shallowRef<Problem | null>(null)
// Whoever comes back from the provider without being let in brings the reason as a word.
const reasons: Record<string, string> = {
  unknown: 'The provider knows you, and this service does not yet: a keeper has to add you, with your mail address.',
  unverified: 'The provider does not vouch for your mail address, so that it is not known who you are.',
  away: 'The provider does not answer. Try again in a moment, or sign in with a password.',
  failed: 'Signing in by the provider did not work. Try again; the log of the service has the reason.',
}
const refused = ref(reasons[new URLSearchParams(window.location.hash.slice(1)).get('sign-on') ?? ''] ?? '')
const first = ref<InstanceType<typeof ElInput>>()
onMounted(() => first.value?.focus())

async function signIn() {
  if (!name.value || !password.value) return
  busy.value = true
  failure.value = null
  try {
    await post('/sign-in', { name: name.value, password: password.value })
    await me.refresh()
  } catch (e) {
    failure.value = asProblem(e)
    password.value = ''
  } finally {
    busy.value = false
  }
}
</script>

<style scoped>
.other { text-decoration: none; }
</style>
