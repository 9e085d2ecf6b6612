<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { routes, type DirectoryOutcome, type ProblemBody } from '@spoor/contract'
import { counted } from '@spoor/core'
import { ref, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'

/** Reading the staff list, from a file or an LDAP directory: what it would change is shown before it is taken. */
export interface Props {
  ldapUrl: string | null
}
const props = defineProps<Props>()
const emit = defineEmits<{ taken: [] }>()
const outcome = ref<DirectoryOutcome | null>(null)
const from = ref('')
const problem = ref<ProblemBody | null>(null)
const busy = ref(false)
let take: (dryRun: boolean) => Promise<DirectoryOutcome>
const url = ref(props.ldapUrl ?? '')
watch(
  () => props.ldapUrl,
  (now) => now && (url.value = now),
)
const bindName = ref('')
const password = ref('')
const base = ref('')

async function run(dryRun: boolean) {
  busy.value = true
  problem.value = null
  try {
    const result = await take(dryRun)
    outcome.value = dryRun ? result : null
    if (!dryRun) emit('taken')
  } catch (error) {
    problem.value = problemOf(error)
    outcome.value = null
  } finally {
    busy.value = false
  }
}
async function readFile(event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  input.value = ''
  if (!file) return
  const csv = await file.text()
  from.value = file.name
  take = (dryRun) => call(routes.loadDirectoryCsv, { body: { csv, dryRun } })
  await run(true)
}
async function readLdap() {
  const search = { url: url.value, bindName: bindName.value, password: password.value, base: base.value }
  from.value = url.value
  take = (dryRun) => call(routes.loadDirectoryLdap, { body: { ...search, dryRun } })
  await run(true)
}
</script>

<template>
  <section class="block" aria-label="Staff list">
    <template v-if="outcome">
      <h3>{{ from }}: {{ counted(outcome.people, 'entry', 'entries') }}</h3>
      <p class="quiet">
        {{
          outcome.changes.length === 0
            ? 'The directory says all of this already.'
            : 'Nothing is taken yet. It would change:'
        }}
      </p>
      <ul>
        <li v-for="change in outcome.changes.slice(0, 60)" :key="change.change + change.name">
          <b>{{ change.name }}</b>
          <span class="quiet">{{ change.change === 'added' ? 'added, ' : '' }}{{ change.words }}</span>
        </li>
        <li v-if="outcome.changes.length > 60" class="quiet">and {{ outcome.changes.length - 60 }} more</li>
      </ul>
      <p v-for="refused in outcome.refused.slice(0, 10)" :key="refused" class="attention">{{ refused }}</p>
      <p class="buttons">
        <Button type="primary" :loading="busy" :disabled="outcome.changes.length === 0" @click="run(false)"
          >Take it</Button
        >
        <Button @click="outcome = null">Leave it</Button>
      </p>
    </template>
    <template v-else>
      <h3>Read a staff list</h3>
      <p class="quiet">
        A CSV file with a heading line: <span class="mono">name, kind, login, unit, joined, left</span> and, where there
        is one, <span class="mono">id</span>, by which a change of name is followed.
      </p>
      <label class="file">Choose a file …<input type="file" accept=".csv,text/csv" @change="readFile" /></label>
      <details :open="ldapUrl !== null">
        <summary>From an LDAP directory</summary>
        <label
          >Address
          <Input v-model:value="url" size="small" placeholder="ldaps://directory.example" aria-label="LDAP address"
        /></label>
        <label
          >Look below
          <Input
            v-model:value="base"
            size="small"
            placeholder="ou=people,dc=larkmere,dc=example"
            aria-label="Look below"
        /></label>
        <label
          >Sign in as
          <Input
            v-model:value="bindName"
            size="small"
            placeholder="nobody"
            aria-label="Sign in there as"
            autocomplete="off"
        /></label>
        <label
          >Password
          <Input v-model:value="password" size="small" type="password" aria-label="Password there" autocomplete="off"
        /></label>
        <Button size="small" :loading="busy" :disabled="!url || !base" @click="readLdap"
          >See what it would change</Button
        >
      </details>
    </template>
    <ProblemNote v-if="problem" :problem="problem" />
  </section>
</template>

<style scoped>
.block {
  padding: 12px 18px;
  display: grid;
  gap: 8px;
  font-size: 13px;
  justify-items: start;
  overflow: auto;
}
h3 {
  font-size: 15px;
  font-weight: 650;
}
details {
  width: 100%;
}
label {
  display: grid;
  width: 100%;
  margin-top: 5px;
}
details :deep(.ant-btn) {
  margin-top: 8px;
}
summary,
.file {
  color: var(--pine);
  cursor: pointer;
}
.file input {
  position: absolute;
  opacity: 0;
  width: 1px;
  height: 1px;
}
.file:focus-within {
  outline: 2px solid var(--pine);
}
.buttons {
  display: flex;
  gap: 8px;
}
</style>
