<template>
  <main class="door">
    <form class="sheet" @submit.prevent="signIn">
      <p class="mark"><TideMark /> Under Tide</p>
      <h1>Sign in</h1>
      <div v-if="failure" class="notice bad" role="alert">{{ said(failure) }}</div>
      <div class="field"><label for="sign-name">Name</label><ElInput id="sign-name" ref="first" v-model="name" name="username" autocomplete="username" /></div>
      <div class="field"><label for="sign-password">Password</label><ElInput id="sign-password" v-model="password" name="password" type="password" autocomplete="current-password" show-password /></div>
      <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!name || !password">Sign in</ElButton>
      <a v-if="me.me.value?.single_sign_on" class="el-button" :href="address('/single-sign-on')">Sign in with {{ me.me.value.single_sign_on }}</a>
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
