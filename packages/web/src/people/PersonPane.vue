<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import DatePicker from 'ant-design-vue/es/date-picker'
import Input from 'ant-design-vue/es/input'
import PickList from '../frame/PickList.vue'
import dayjs, { type Dayjs } from 'dayjs'
import {
  roleNames,
  roles,
  routes,
  sightOf,
  usualRole,
  type ProblemBody,
  type Role,
  type SpoorPerson,
} from '@spoor/contract'
import { parseScope, scopeEntries, type Scope } from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import ScopeSentence from '../scope/ScopeSentence.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'

/** What one person may do in Spoor; null for somebody who is to be given access. */
export interface Props {
  person: SpoorPerson | null
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ done: []; close: [] }>()
const login = ref(props.person?.login ?? '')
const name = ref(props.person?.name ?? '')
const role = ref<Role>(props.person?.role ?? usualRole)
const password = ref('')
const actorId = ref<number | null>(props.person?.actorId ?? null)
const scope = ref<Scope>(parseScope(new URLSearchParams(props.person?.reach ?? '')).scope)
const reachFrom = ref(props.person?.reachFrom ?? null)
const reachUntil = ref(props.person?.reachUntil ?? null)
const disabled = ref(Boolean(props.person?.disabledAt))
const problem = ref<ProblemBody | null>(null)
const busy = ref(false)
const does: Record<Role, string> = {
  administrator: 'Sets tracking, people and everything else.',
  reviewer: 'Reads everything, takes changes out, drafts corrections.',
  approver: 'Reads everything; approves corrections and plans drafted by somebody else.',
  auditor: 'Reads and takes changes out, within one scope and between two days.',
  contributor: 'Sees their own changes only.',
}
const actors = computed(() =>
  props.names.actors
    .filter((actor) => actor.kind === 'person')
    .map((actor) => ({ value: actor.id, label: actor.name })),
)
const day = (text: string | null) => (text === null ? undefined : dayjs(text)) as never
const text = (value: Dayjs | string | null) => (value ? dayjs(value).format('YYYY-MM-DD') : null)
const ready = computed(
  () => name.value.trim() !== '' && (props.person !== null || (login.value.trim() !== '' && password.value !== '')),
)

async function keep() {
  busy.value = true
  try {
    const scoped = sightOf(role.value) === 'scope'
    const settings = {
      name: name.value,
      role: role.value,
      actorId: actorId.value,
      reach: scoped ? new URLSearchParams(scopeEntries(scope.value)).toString() : null,
      reachFrom: scoped ? reachFrom.value : null,
      reachUntil: scoped ? reachUntil.value : null,
    }
    if (props.person)
      await call(routes.changePerson, {
        params: { personId: String(props.person.id) },
        body: { ...settings, disabled: disabled.value, ...(password.value ? { password: password.value } : {}) },
      })
    else await call(routes.addPerson, { body: { login: login.value, password: password.value, ...settings } })
    emit('done')
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="block" aria-label="A person" @submit.prevent="keep">
    <h3>
      {{ person ? person.name : 'Give somebody access' }}
      <button type="button" class="plain quiet" aria-label="Close" @click="emit('close')">✕</button>
    </h3>
    <label>Full name <Input v-model:value="name" aria-label="Full name" /></label>
    <label v-if="!person"
      >Signs in as <Input v-model:value="login" aria-label="Signs in as" autocomplete="off"
    /></label>
    <label
      >{{ person ? 'A new password, if it is to change' : 'Password' }}
      <Input v-model:value="password" type="password" aria-label="Password" autocomplete="new-password"
    /></label>
    <label
      >Role
      <PickList
        v-model:value="role"
        aria-label="Role"
        :options="roles.map((one) => ({ value: one, label: roleNames[one] }))"
    /></label>
    <p class="quiet">{{ does[role] }}</p>
    <label v-if="sightOf(role) === 'own'"
      >Their saves are those of
      <PickList
        :value="(actorId ?? undefined) as never"
        show-search
        allow-clear
        option-filter-prop="label"
        placeholder="nobody yet"
        aria-label="Their saves are those of"
        :options="actors"
        @change="(value: unknown) => (actorId = value === undefined ? null : Number(value))"
    /></label>
    <template v-if="sightOf(role) === 'scope'">
      <div class="reach">
        <span class="quiet">Sees</span> <ScopeSentence :scope="scope" :names="names" @change="(now) => (scope = now)" />
      </div>
      <div class="pair">
        <label
          >From
          <DatePicker
            :value="day(reachFrom)"
            format="D MMM YYYY"
            placeholder="now"
            @change="(value: Dayjs | string) => (reachFrom = text(value))"
        /></label>
        <label
          >until, that day included
          <DatePicker
            :value="day(reachUntil)"
            format="D MMM YYYY"
            placeholder="further notice"
            @change="(value: Dayjs | string) => (reachUntil = text(value))"
        /></label>
      </div>
    </template>
    <Checkbox v-if="person" v-model:checked="disabled">Their access is ended</Checkbox>
    <ProblemNote v-if="problem" :problem="problem" />
    <Button type="primary" html-type="submit" :loading="busy" :disabled="!ready">{{
      person ? 'Keep this' : 'Give access'
    }}</Button>
  </form>
</template>

<style scoped>
.block {
  padding: 12px 18px;
  display: grid;
  gap: 10px;
  font-size: 13px;
  overflow: auto;
}
h3 {
  font-size: 15px;
  font-weight: 650;
  display: flex;
  justify-content: space-between;
}
/* Ant Design Vue's own radios and checkboxes are labels too. */
label:not(.ant-radio-wrapper, .ant-checkbox-wrapper) {
  display: grid;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
.reach :deep(.sentence) {
  font-size: 14px;
}
.block > :deep(.ant-btn) {
  justify-self: start;
}
</style>
