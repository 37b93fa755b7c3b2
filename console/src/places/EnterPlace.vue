<template>
  <main class="door">
    <form class="sheet" @submit.prevent="enter">
      <p class="mark"><TideMark /> Under Tide</p>
      <h1 v-if="!whom">{{ looking ? 'Looking at your code' : 'Nobody is let in by this address' }}</h1>
      <StateNote v-if="!whom" :loading="looking" :problem="failure">There is no code in the address. Open the whole address that you were given.</StateNote>
      <template v-else>
        <h1>{{ whom.first ? 'Become the first keeper' : `Welcome, ${whom.name}` }}</h1>
        <p v-if="whom.first" class="soft">From then on whoever asks this service has to sign in. You may add people, and everything else.</p>
        <p v-else class="soft">You are {{ aRole(whom.role) }}. Choose a password; this address counts once.</p>
        <div v-if="failure" class="notice bad" role="alert">{{ said(failure) }}</div>
        <div v-if="whom.first" class="field"><label for="enter-name">Name</label><ElInput id="enter-name" v-model="name" name="username" autocomplete="username" /></div>
        <input v-else type="hidden" name="username" autocomplete="username" :value="whom.name">
        <div class="field"><label for="enter-password">Password</label><ElInput id="enter-password" v-model="password" name="password" type="password" autocomplete="new-password" show-password /></div>
        <p class="soft" :class="{ bad: password && password.length < least }">At least {{ least }} characters; a few words are good. Nothing else is asked of it.</p>
        <ElButton type="primary" native-type="submit" :loading="busy" :disabled="password.length < least || (whom.first && !name)">Choose it and sign in</ElButton>
      </template>
    </form>
  </main>
</template>

<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { onMounted, ref, shallowRef } from 'vue'
import { useRouter } from 'vue-router'

import { asProblem, post, said, type Problem, type Schemas } from '../http'
import StateNote from '../parts/StateNote.vue'
import TideMark from '../parts/TideMark.vue'
import { aRole, useMe } from '../use/me'

/** As the service asks it of a password (docs/security.md, "People and rights"). */
const least = 12

const me = useMe()
const router = useRouter()
// The code stands behind the hash, which browsers send to nobody; it is taken out of the address at once.
const code = window.location.hash.slice(1)
const whom = shallowRef<Schemas['CodeFor'] | null>(null)
const looking = ref(!!code)
const failure = shallowRef<Problem | null>(null)
const name = ref('')
const password = ref('')
const busy = ref(false)

onMounted(async () => {
  if (!code) return
  window.history.replaceState(window.history.state, '', '/enter')
  try {
    whom.value = await post<Schemas['CodeFor']>('/enter/look', { code })
  } catch (e) {
    failure.value = asProblem(e)
  } finally {
    looking.value = false
  }
})

async function enter() {
  busy.value = true
  failure.value = null
  try {
    await post('/enter', { code, name: whom.value?.first ? name.value : undefined, password: password.value })
    await me.refresh()
    await router.replace('/jobs')
  } catch (e) {
    failure.value = asProblem(e)
  } finally {
    busy.value = false
  }
}
</script>
