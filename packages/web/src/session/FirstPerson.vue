<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { routes, type ProblemBody } from '@spoor/contract'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import SpoorMark from '../frame/SpoorMark.vue'
import { useSession } from './session.ts'

/** Where the first administrator is made, by the link that the server printed. */
const session = useSession()
const route = useRoute()
const router = useRouter()
const key = computed(() => route.hash.slice(1))
const name = ref('')
const login = ref('')
const password = ref('')
const busy = ref(false)
const problem = ref<ProblemBody | null>(null)
const wanted = ref<boolean | null>(null)
onMounted(async () => {
  try {
    wanted.value = (await call(routes.readFirst)).wanted
  } catch (error) {
    problem.value = problemOf(error)
  }
})

async function make() {
  busy.value = true
  problem.value = null
  try {
    await call(routes.makeFirst, {
      body: { key: key.value, login: login.value, name: name.value, password: password.value },
    })
    await session.signIn(login.value, password.value)
    await router.replace('/tracking')
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <main class="door">
    <div v-if="wanted === false" class="form">
      <h1><SpoorMark /> Spoor</h1>
      <p>Somebody can sign in here already, so this link makes nobody any more.</p>
      <RouterLink to="/sign-in">Sign in</RouterLink>
    </div>
    <form v-else class="form" @submit.prevent="make">
      <h1><SpoorMark /> Spoor</h1>
      <p>
        You are the first here. Say who you are; next you connect the database whose records are to be tracked, and pick
        their fields.
      </p>
      <label>Your full name<Input v-model:value="name" autocomplete="name" autofocus name="name" /></label>
      <label>Name to sign in with<Input v-model:value="login" autocomplete="username" name="login" /></label>
      <label
        >Password<Input v-model:value="password" type="password" autocomplete="new-password" name="password"
      /></label>
      <ProblemNote v-if="problem" :problem="problem" />
      <Button type="primary" html-type="submit" :loading="busy" :disabled="!name || !login || !password"
        >Become the first administrator</Button
      >
    </form>
  </main>
</template>

<style scoped src="./door.css"></style>
