<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { routes, type Identity, type ProblemBody, type Unmapped } from '@spoor/contract'
import { counted, dateText, kindPlural } from '@spoor/core'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import SplitPane from '../frame/SplitPane.vue'
import { useSession } from '../session/session.ts'
import { useTracking } from '../tracking/draft.ts'
import TrackingFrame from '../tracking/TrackingFrame.vue'
import ActorGlyph from '../value/ActorGlyph.vue'
import { dayOnly } from '../value/time.ts'
import IdentityPane from './IdentityPane.vue'
import StaffListPane from './StaffListPane.vue'

/** Who makes saves: who is not known yet, by what the others are known, and the directory. */
const session = useSession()
const router = useRouter()
const cache = useQueryClient()
const tracking = useTracking()
const mayEdit = computed(() => session.may('directory.edit'))
const { data, error } = useQuery({ queryKey: ['directory'], queryFn: () => call(routes.readDirectory) })
const find = ref('')
const mapping = ref<Pick<Unmapped, 'sourceId' | 'by' | 'text'> | null>(null)
const problem = ref<ProblemBody | null>(null)
const actorName = (id: number | null) =>
  data.value?.entries.find((entry) => entry.actorId === id)?.name ?? `actor ${id}`
const entries = computed(() => {
  const wanted = find.value.trim().toLowerCase()
  return (data.value?.entries ?? []).filter((entry) =>
    [entry.name, entry.login, entry.unit, ...entry.formerNames].join(' ').toLowerCase().includes(wanted),
  )
})
const mostShown = 200

function spell({ fromOn, untilOn }: Identity): string {
  if (fromOn === null && untilOn === null) return ''
  if (fromOn === null) return `until ${dateText(untilOn!)}`
  return untilOn === null ? `from ${dateText(fromOn)} on` : `${dateText(fromOn)} to ${dateText(untilOn)}`
}
async function remove(identity: Identity) {
  try {
    await call(routes.removeIdentity, { params: { identityId: String(identity.id) } })
    problem.value = null
  } catch (caught) {
    problem.value = problemOf(caught)
  }
  await refresh()
}
async function refresh() {
  mapping.value = null
  await Promise.all([
    cache.invalidateQueries({ queryKey: ['directory'] }),
    cache.invalidateQueries({ queryKey: ['vocabulary'] }),
  ])
}
</script>

<template>
  <TrackingFrame :tracking="tracking" @connect="router.push('/tracking')">
    <template #tools
      ><Input
        v-model:value="find"
        size="small"
        class="find"
        placeholder="Find somebody"
        aria-label="Find somebody"
        allow-clear
    /></template>
    <SplitPane name="who" label="mapping and staff list" :open="mayEdit" :width="400">
      <div class="page">
        <ProblemNote v-if="error" :problem="problemOf(error)" />
        <ProblemNote v-if="problem" :problem="problem" />
        <p v-if="!data && !error" class="quiet">Reading the directory …</p>
        <template v-if="data">
          <section aria-label="Not known">
            <h2>
              Not known <span class="quiet">{{ counted(data.unmapped.length, 'name') }} with saves of their own</span>
            </h2>
            <p v-if="data.unmapped.length === 0" class="quiet">Everybody who made a save is known.</p>
            <table v-else>
              <tbody>
                <tr v-for="one in data.unmapped" :key="`${one.actorId} ${one.sourceId}`">
                  <td>
                    <ActorGlyph :kind="one.kind" /> {{ one.by === 'login' ? 'login ' : ''
                    }}<span class="mono">{{ one.text }}</span>
                  </td>
                  <td>
                    <RouterLink :to="{ path: '/changes', query: { who: `a${one.actorId}` } }">{{
                      counted(one.saves, 'save')
                    }}</RouterLink>
                  </td>
                  <td class="quiet">{{ dayOnly(one.firstAt) }} to {{ dayOnly(one.lastAt) }}</td>
                  <td class="end">
                    <Button v-if="mayEdit" size="small" @click="mapping = one">Say who this is</Button>
                  </td>
                </tr>
              </tbody>
            </table>
          </section>
          <section aria-label="Known by login or name">
            <h2>Known by a login or a said name</h2>
            <p v-if="data.identities.length === 0" class="quiet">
              Nobody yet. Most saves say themselves who acts; those that do not can be mapped here.
            </p>
            <table v-else>
              <tbody>
                <tr v-for="identity in data.identities" :key="identity.id">
                  <td>
                    {{ identity.by }} <span class="mono">{{ identity.text }}</span>
                  </td>
                  <td>
                    {{ actorName(identity.actorId)
                    }}<template v-if="identity.forActorId">, acting for {{ actorName(identity.forActorId) }}</template>
                  </td>
                  <td class="quiet">{{ spell(identity) }}</td>
                  <td class="end">
                    <button v-if="mayEdit" class="plain link" @click="remove(identity)">Take away</button>
                  </td>
                </tr>
              </tbody>
            </table>
          </section>
          <section aria-label="Directory">
            <h2>
              Directory <span class="quiet">{{ counted(data.entries.length, 'entry', 'entries') }}</span>
            </h2>
            <table>
              <thead>
                <tr>
                  <th>name</th>
                  <th>login</th>
                  <th>works at</th>
                  <th>joined</th>
                  <th>left</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="entry in entries.slice(0, mostShown)" :key="entry.actorId" :class="{ gone: entry.leftOn }">
                  <td>
                    <ActorGlyph :kind="entry.kind" /> {{ entry.name }}
                    <span v-if="entry.kind !== 'person'" class="quiet">{{
                      kindPlural[entry.kind].replace(/s$/, '')
                    }}</span>
                    <span v-if="entry.formerNames.length > 0" class="quiet"
                      >was {{ entry.formerNames.join(', ') }}</span
                    >
                  </td>
                  <td class="mono">{{ entry.login ?? '' }}</td>
                  <td>{{ entry.unit ?? '' }}</td>
                  <td class="quiet">{{ entry.joinedOn ? dateText(entry.joinedOn) : '' }}</td>
                  <td class="quiet">{{ entry.leftOn ? dateText(entry.leftOn) : '' }}</td>
                </tr>
              </tbody>
            </table>
            <p v-if="entries.length > mostShown" class="quiet">
              {{ entries.length - mostShown }} more; type to find one.
            </p>
            <p v-if="entries.length === 0" class="quiet">
              {{ find ? 'Nobody has this in their name.' : 'The directory is empty. Read a staff list to fill it.' }}
            </p>
          </section>
        </template>
      </div>
      <template #pane>
        <IdentityPane
          v-if="mapping && data"
          :key="`${mapping.by} ${mapping.text}`"
          :unmapped="mapping"
          :entries="data.entries"
          @done="refresh"
          @close="mapping = null"
        />
        <StaffListPane :ldap-url="data?.ldapUrl ?? null" @taken="refresh" />
      </template>
    </SplitPane>
  </TrackingFrame>
</template>

<style scoped>
.find {
  width: 190px;
}
.page {
  flex: 1;
  overflow: auto;
  padding: 14px 18px;
  display: grid;
  gap: 18px;
  align-content: start;
  background: var(--panel);
  font-size: 13px;
}
h2 {
  font-size: 15px;
  font-weight: 650;
  margin-bottom: 4px;
}
h2 span {
  font-weight: 400;
  font-size: 13px;
}
table {
  width: 100%;
  border-collapse: collapse;
}
td,
th {
  text-align: left;
  padding: 3px 12px 3px 0;
  border-bottom: 1px solid var(--line-soft);
  height: 28px;
  vertical-align: middle;
}
th {
  font-weight: 400;
  color: var(--soft);
}
.end {
  text-align: right;
  padding-right: 0;
}
.gone {
  color: var(--soft);
}
.link {
  color: var(--pine);
}
</style>
