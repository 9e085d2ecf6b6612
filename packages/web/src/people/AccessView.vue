<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import InputNumber from 'ant-design-vue/es/input-number'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { roleNames, routes, sightOf, type ProblemBody, type SignInRules } from '@spoor/contract'
import { dateText, parseScope, sentence, sentenceText } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import SplitPane from '../frame/SplitPane.vue'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useTracking } from '../tracking/draft.ts'
import TrackingFrame from '../tracking/TrackingFrame.vue'
import { doneBy } from '../value/done-by.ts'
import { fullTime, shortTime } from '../value/time.ts'
import ApplicationList from './ApplicationList.vue'
import PersonPane from './PersonPane.vue'

/** Who may sign in to Spoor and see what, by which rules, and what was changed about that. */
const router = useRouter()
const cache = useQueryClient()
const tracking = useTracking()
const names = useVocabulary(ref({}))
const { data, error } = useQuery({ queryKey: ['people'], queryFn: () => call(routes.listPeople) })
const { data: events } = useQuery({
  queryKey: ['events', 'person,sign-in'],
  queryFn: () => call(routes.listEvents, { query: { kind: 'person,sign-in' } }),
})
const openId = ref<number | 'new' | null>(null)
const open = computed(() => data.value?.people.find((person) => person.id === openId.value) ?? null)
const rules = ref<SignInRules | null>(null)
const problem = ref<ProblemBody | null>(null)
watch(
  () => data.value?.rules,
  (now) => now && (rules.value = { ...now }),
  { immediate: true },
)
const rulesChanged = computed(() => JSON.stringify(rules.value) !== JSON.stringify(data.value?.rules))

async function refresh() {
  openId.value = null
  await Promise.all([
    cache.invalidateQueries({ queryKey: ['people'] }),
    cache.invalidateQueries({ queryKey: ['events'] }),
  ])
}
async function keepRules() {
  try {
    await call(routes.changeSignInRules, { body: rules.value! })
    problem.value = null
    await refresh()
  } catch (caught) {
    problem.value = problemOf(caught)
  }
}
const reachText = (reach: string) => sentenceText(sentence(parseScope(new URLSearchParams(reach)).scope, names.value))
</script>

<template>
  <TrackingFrame :tracking="tracking" @connect="router.push('/tracking')">
    <SplitPane name="access" label="a person" :open="openId !== null" :width="420">
      <div class="page">
        <ProblemNote v-if="error" :problem="problemOf(error)" />
        <template v-if="data">
          <section>
            <h2>People <Button size="small" @click="openId = 'new'">Give somebody access</Button></h2>
            <table>
              <thead>
                <tr>
                  <th>name</th>
                  <th>signs in as</th>
                  <th>role</th>
                  <th>sees</th>
                  <th>last signed in</th>
                </tr>
              </thead>
              <tbody>
                <tr
                  v-for="person in data.people"
                  :key="person.id"
                  :class="{ off: person.disabledAt, on: person.id === openId }"
                >
                  <td>
                    <button class="plain link" @click="openId = person.id">{{ person.name }}</button>
                  </td>
                  <td class="mono">{{ person.login }}</td>
                  <td>{{ roleNames[person.role] }}{{ person.disabledAt ? ', access ended' : '' }}</td>
                  <td class="quiet">
                    <template v-if="sightOf(person.role) === 'scope'">
                      {{ person.reach ? reachText(person.reach) : 'nothing yet' }}
                      {{ person.reachFrom ? `From ${dateText(person.reachFrom)}.` : '' }}
                      {{ person.reachUntil ? `Until ${dateText(person.reachUntil)}.` : '' }}
                    </template>
                    <template v-else-if="sightOf(person.role) === 'own'">their own changes</template>
                    <template v-else>everything</template>
                  </td>
                  <td class="quiet">{{ person.lastSeenAt ? shortTime(person.lastSeenAt) : 'never' }}</td>
                </tr>
              </tbody>
            </table>
          </section>
          <section v-if="rules">
            <h2>Signing in</h2>
            <div class="rules">
              <label
                >Signed out after
                <InputNumber v-model:value="rules.idleMinutes" size="small" :min="5" :max="1440" /> minutes without a
                touch</label
              >
              <label
                >and after <InputNumber v-model:value="rules.mostHours" size="small" :min="1" :max="168" /> hours in any
                case</label
              >
              <label
                >Passwords of at least
                <InputNumber v-model:value="rules.leastPasswordLength" size="small" :min="12" :max="128" />
                characters</label
              >
              <label
                ><InputNumber v-model:value="rules.triesBeforeWait" size="small" :min="3" :max="50" /> failed tries in
                five minutes, then a wait</label
              >
              <Button v-if="rulesChanged" type="primary" size="small" @click="keepRules">Keep these rules</Button>
            </div>
            <ProblemNote v-if="problem" :problem="problem" />
          </section>
          <ApplicationList />
          <section>
            <h2>What was done about access</h2>
            <p v-if="events?.events.length === 0" class="quiet">Nothing yet.</p>
            <ul class="events">
              <li v-for="event in events?.events ?? []" :key="event.id">
                <span class="quiet">{{ fullTime(event.at) }}</span>
                <span
                  ><b>{{ doneBy(event) }}</b> {{ event.words
                  }}<b v-if="event.outcome === 'refused'" class="attention"> (refused)</b></span
                >
                <span class="mono quiet">{{ event.address ?? '' }}</span>
              </li>
            </ul>
          </section>
        </template>
      </div>
      <template #pane>
        <PersonPane :key="String(openId)" :person="open" :names="names" @done="refresh" @close="openId = null" />
      </template>
    </SplitPane>
  </TrackingFrame>
</template>

<style scoped>
.page {
  flex: 1;
  overflow: auto;
  padding: 14px 18px;
  display: grid;
  gap: 20px;
  align-content: start;
  background: var(--panel);
  font-size: 13px;
}
h2 {
  font-size: 15px;
  font-weight: 650;
  margin-bottom: 6px;
  display: flex;
  gap: 14px;
  align-items: center;
}
table {
  width: 100%;
  border-collapse: collapse;
}
td,
th {
  text-align: left;
  padding: 4px 12px 4px 0;
  border-bottom: 1px solid var(--line-soft);
}
th {
  font-weight: 400;
  color: var(--soft);
}
.off td {
  color: var(--soft);
}
tr.on {
  background: var(--pine-wash);
}
.link {
  color: var(--pine);
}
.rules {
  display: grid;
  gap: 8px;
  justify-items: start;
}
.rules :deep(.ant-input-number) {
  width: 76px;
}
.events li {
  display: grid;
  grid-template-columns: 200px 1fr auto;
  gap: 10px;
  padding: 3px 0;
  border-bottom: 1px solid var(--line-soft);
}
</style>
