<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { routes, type ProblemBody } from '@spoor/contract'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import SpoorMark from '../frame/SpoorMark.vue'
import { useSession } from './session.ts'

const session = useSession()
const route = useRoute()
const router = useRouter()
const login = ref('')
const password = ref('')
const busy = ref(false)
const problem = ref<ProblemBody | null>(null)
const empty = ref(false)
onMounted(async () => {
  // Only a hint: signing in says for itself when the server does not answer.
  empty.value = await call(routes.readFirst).then(
    ({ wanted }) => wanted,
    () => false,
  )
})

async function signIn() {
  busy.value = true
  problem.value = null
  try {
    await session.signIn(login.value, password.value)
    const next = String(route.query['next'] ?? '/')
    // Only a path of this application: a link must not lead elsewhere after signing in.
    await router.replace(/^\/(?![/\\])/.test(next) ? next : '/')
  } catch (error) {
    problem.value = problemOf(error)
    password.value = ''
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <main class="door">
    <form class="form" @submit.prevent="signIn">
      <h1><SpoorMark /> Spoor</h1>
      <p class="quiet">Who changed what, when, and back again if it was wrong.</p>
      <label>Name<Input v-model:value="login" autocomplete="username" autofocus name="login" /></label>
      <label
        >Password<Input v-model:value="password" type="password" autocomplete="current-password" name="password"
      /></label>
      <p v-if="empty" role="status">
        Nobody can sign in yet. Where Spoor was started it printed a link that makes the first administrator.
      </p>
      <ProblemNote v-if="problem" :problem="problem" />
      <Button type="primary" html-type="submit" :loading="busy" :disabled="!login || !password">Sign in</Button>
    </form>
  </main>
</template>

<style scoped src="./door.css"></style>
