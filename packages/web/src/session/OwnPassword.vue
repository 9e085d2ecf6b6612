<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { ref } from 'vue'
import type { ProblemBody } from '@spoor/contract'
import { problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from './session.ts'

const session = useSession()
const current = ref('')
const password = ref('')
const busy = ref(false)
const changed = ref(false)
const problem = ref<ProblemBody | null>(null)

async function change() {
  busy.value = true
  problem.value = null
  changed.value = false
  try {
    await session.changePassword(current.value, password.value)
    current.value = password.value = ''
    changed.value = true
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form aria-label="Your password" @submit.prevent="change">
    <label
      >Your password now
      <Input
        v-model:value="current"
        type="password"
        size="small"
        aria-label="Your password now"
        autocomplete="current-password"
    /></label>
    <label
      >The new one
      <Input
        v-model:value="password"
        type="password"
        size="small"
        aria-label="The new password"
        autocomplete="new-password"
    /></label>
    <ProblemNote v-if="problem" :problem="problem" />
    <p v-if="changed" role="status" class="quiet">Your password was changed. You were signed out everywhere else.</p>
    <Button html-type="submit" type="primary" size="small" :loading="busy" :disabled="!current || !password"
      >Change it</Button
    >
  </form>
</template>

<style scoped>
form {
  display: grid;
  gap: 8px;
  margin-top: 8px;
  width: 260px;
}
label {
  display: grid;
  gap: 2px;
}
p {
  margin: 0;
}
</style>
