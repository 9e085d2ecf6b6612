<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { useQueryClient } from '@tanstack/vue-query'
import { routes, type RegularPack } from '@spoor/contract'
import { capitalised, counted, listed, rhythmWords } from '@spoor/core'
import { watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { fullTime, shortTime } from '../value/time.ts'
import { regularKey, useRegularPacks } from './regular.ts'

/** Packs that are made again and again; nothing is shown where there is none. */
const session = useSession()
const cache = useQueryClient()
const { data, error } = useRegularPacks()
// What was made since stands in the register.
watch(
  () => data.value?.regular.reduce((sum, { made }) => sum + made, 0),
  (now, before) => {
    if (before !== undefined && now !== before) void cache.invalidateQueries({ queryKey: ['packs'] })
  },
)
const { busy, problem, doing } = useDoing()
const end = (one: RegularPack) =>
  doing(async () => {
    cache.setQueryData(regularKey, await call(routes.endRegularPack, { params: { regularId: String(one.id) } }))
  })
const mayEnd = (one: RegularPack) =>
  session.may('packs.make') && (one.owner.id === session.person?.id || session.may('people.manage'))
</script>

<template>
  <ProblemNote v-if="error ?? problem" :problem="problem ?? problemOf(error)" />
  <section v-if="data && data.regular.length > 0" class="regular" aria-label="Made regularly">
    <h2>Made regularly</h2>
    <ul>
      <li v-for="one in data.regular" :key="one.id">
        <span class="what">
          <strong
            ><bdi>{{ one.title }}</bdi></strong
          >
          <span
            >{{ capitalised(rhythmWords(one.rhythm)) }} <span class="quiet">({{ one.zone }})</span></span
          >
          <bdi class="quiet">{{ one.sentence.replace(', at any time', '') }}</bdi>
          <span v-if="one.trouble" class="failure"
            >It is not made: <bdi>{{ one.trouble }}</bdi></span
          >
        </span>
        <span class="past">
          <span :title="fullTime(one.nextAt)">next {{ shortTime(one.nextAt) }}</span>
          <span v-if="one.lastPackId === null" class="quiet">none made yet</span>
          <span v-else class="quiet"
            >{{ counted(one.made, 'pack') }}, last
            <RouterLink :to="{ name: 'pack', params: { packId: String(one.lastPackId) } }">{{
              one.lastPackId
            }}</RouterLink></span
          >
          <span class="quiet"
            >of {{ one.owner.name
            }}<template v-if="one.mail.length > 0">, sent to {{ listed(one.mail) }}</template></span
          >
        </span>
        <PressPopover v-if="mayEnd(one)" title="End …">
          <div class="acts">
            <p>It is made no more. The packs that were made stay.</p>
            <Button size="small" danger :loading="busy" @click="end(one)">End it</Button>
          </div>
        </PressPopover>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.regular {
  margin: 14px 0;
}
h2 {
  font-size: 14px;
  font-weight: 650;
}
li {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr) auto;
  gap: 4px 22px;
  align-items: start;
  padding: 7px 0;
  border-top: 1px solid var(--line-soft);
}
.what,
.past {
  display: grid;
  overflow-wrap: anywhere;
}
.acts {
  display: grid;
  gap: 8px;
  width: 280px;
}
</style>
