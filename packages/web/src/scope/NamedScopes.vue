<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import Popover from 'ant-design-vue/es/popover'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { routes, type NamedScope, type ProblemBody } from '@spoor/contract'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'

/** Scopes and readings kept under a name, one's own and shared ones. What one means is decided by who opens it. */
export interface Props {
  scope: string
}
const props = defineProps<Props>()
const emit = defineEmits<{ open: [scope: string] }>()
const cache = useQueryClient()
const shown = ref(false)
const { data } = useQuery({ queryKey: ['scopes'], queryFn: () => call(routes.listScopes) })
const scopes = computed(() => data.value?.scopes ?? [])
const here = computed(() => scopes.value.find((one) => one.scope === props.scope && props.scope !== ''))
const noun = computed(() => (props.scope.includes('work=') ? 'reading' : 'scope'))
const name = ref('')
const shared = ref(false)
const problem = ref<ProblemBody | null>(null)

async function attempt(work: () => Promise<unknown>) {
  try {
    await work()
    problem.value = null
    await cache.invalidateQueries({ queryKey: ['scopes'] })
  } catch (error) {
    problem.value = problemOf(error)
  }
}
const keep = () =>
  attempt(async () => {
    await call(routes.nameScope, { body: { name: name.value, scope: props.scope, shared: shared.value } })
    name.value = ''
  })
const share = (one: NamedScope) =>
  attempt(() => call(routes.nameScope, { body: { name: one.name, scope: one.scope, shared: !one.shared } }))
const remove = (one: NamedScope) => attempt(() => call(routes.removeScope, { params: { scopeId: String(one.id) } }))
function open(one: NamedScope) {
  shown.value = false
  emit('open', one.scope)
}
</script>

<template>
  <Popover v-model:open="shown" trigger="click" placement="bottomRight" :arrow="false" destroy-tooltip-on-hide>
    <button class="plain link">{{ here?.name ?? 'Kept scopes' }}</button>
    <template #content>
      <div class="kept" @keydown.esc="shown = false">
        <ul>
          <li v-for="one in scopes" :key="one.id">
            <button class="plain link" @click="open(one)">{{ one.name }}</button>
            <span class="quiet">{{ one.mine ? '' : `from ${one.owner}` }}</span>
            <template v-if="one.mine">
              <Checkbox :checked="one.shared" @change="share(one)">shared</Checkbox>
              <button class="plain link" :aria-label="`Remove ${one.name}`" @click="remove(one)">Remove</button>
            </template>
          </li>
          <li v-if="scopes.length === 0" class="quiet">None yet. Keep this one under a name to come back to it.</li>
        </ul>
        <form @submit.prevent="keep">
          <Input
            v-model:value="name"
            size="small"
            :placeholder="`Keep this ${noun} as …`"
            :aria-label="`Keep this ${noun} as`"
          />
          <Checkbox v-model:checked="shared">shared</Checkbox>
          <Button size="small" html-type="submit" :disabled="!name.trim()">Keep</Button>
        </form>
        <ProblemNote v-if="problem" :problem="problem" />
      </div>
    </template>
  </Popover>
</template>

<style scoped>
.kept {
  width: 400px;
  max-width: 86vw;
  font-size: 13px;
}
ul {
  max-height: 260px;
  overflow: auto;
}
li {
  display: flex;
  gap: 10px;
  align-items: center;
  min-height: 26px;
}
li > :first-child {
  flex: 1;
}
form {
  display: flex;
  gap: 8px;
  align-items: center;
  border-top: 1px solid var(--line);
  margin-top: 8px;
  padding-top: 8px;
}
.link {
  color: var(--pine);
  font-size: 13px;
}
</style>
