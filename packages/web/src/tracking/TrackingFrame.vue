<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import PickList from '../frame/PickList.vue'
import { counted } from '@spoor/core'
import { computed } from 'vue'
import { problemOf } from '../api/client.ts'
import GlossaryButton from '../frame/GlossaryButton.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { shortTime } from '../value/time.ts'
import type { useTracking } from './draft.ts'

/** The bar above everything that has to do with setting up tracking, and the pages it leads to. */
export interface Props {
  tracking: ReturnType<typeof useTracking>
}
const props = defineProps<Props>()
const emit = defineEmits<{ connect: [] }>()
const session = useSession()
const source = computed(() => props.tracking.source.value)
const sources = computed(() => props.tracking.sources.value)
const error = computed(() => props.tracking.error.value)
const isPending = computed(() => props.tracking.isPending.value)
const fields = computed(() => source.value?.types.flatMap((type) => type.fields) ?? [])
const tracked = computed(() => fields.value.filter((field) => field.keep !== 'off').length)
const pages = computed(() => [
  { path: '/tracking', title: 'Map' },
  { path: '/tracking/plans', title: 'Plan versions' },
  { path: '/tracking/coverage', title: 'Coverage and proof' },
  ...(session.may('directory.read') ? [{ path: '/tracking/who', title: 'Who is who' }] : []),
  ...(session.may('people.manage') ? [{ path: '/tracking/access', title: 'People and access' }] : []),
])
</script>

<template>
  <nav class="pages" aria-label="Tracking">
    <RouterLink v-for="page in pages" :key="page.path" :to="page.path" :class="{ on: $route.path === page.path }">{{
      page.title
    }}</RouterLink>
    <span class="space" />
    <slot name="tools" />
    <GlossaryButton />
  </nav>
  <div v-if="error" class="pad">
    <ProblemNote :problem="problemOf(error)"
      ><button class="plain link" @click="tracking.refetch()">Try again</button></ProblemNote
    >
  </div>
  <p v-else-if="isPending" class="pad quiet">Looking at the source …</p>
  <template v-else>
    <div v-if="source" class="bar">
      <PickList
        v-if="sources.length > 1"
        :value="source.id"
        size="small"
        aria-label="Source"
        :options="sources.map((one) => ({ value: one.id, label: one.name }))"
        :dropdown-match-select-width="false"
        @change="(id: unknown) => tracking.choose(Number(id))"
      />
      <h1 v-else>{{ source.name }}</h1>
      <span>
        {{ tracked }} of {{ counted(fields.length, 'field') }} tracked<template v-if="source.inForceSince">
          · plan {{ source.planVersion }} in force since {{ shortTime(source.inForceSince) }}</template
        ><template v-else> · no plan in force yet</template
        ><template v-if="source.proof">
          ·
          <RouterLink to="/tracking/coverage" :class="{ attention: source.proof.missed > 0 }"
            >proved {{ shortTime(source.proof.at) }}, {{ source.proof.recorded }} recorded<template
              v-if="source.proof.missed > 0"
              >, {{ source.proof.missed }} missed</template
            ></RouterLink
          ></template
        ><template v-else-if="source.inForceSince">
          · <RouterLink to="/tracking/coverage">not proved yet</RouterLink></template
        >
      </span>
      <span class="space" />
      <Button v-if="session.may('tracking.edit') && $route.path === '/tracking'" size="small" @click="emit('connect')"
        >Sources …</Button
      >
    </div>
    <div v-else class="pad">
      <p><b>No source is connected.</b> A source is a business database whose records are to be tracked.</p>
      <p v-if="session.may('tracking.edit')" class="first">
        <Button type="primary" @click="emit('connect')">Connect a source</Button>
      </p>
    </div>
    <p v-if="source?.obstacle" class="pad failure" role="alert">
      <b>{{ source.obstacle.words }}</b> What you see is from the last look.
      <button class="plain link" @click="tracking.refetch()">Look again</button>
    </p>
    <slot />
  </template>
</template>

<style scoped>
.pad {
  padding: 14px 18px;
}
.first {
  margin-top: 12px;
}
.pages {
  flex: none;
  display: flex;
  align-items: center;
  gap: 20px;
  padding: 0 18px;
  min-height: 40px;
  background: var(--panel);
  border-bottom: 1px solid var(--line);
}
.pages a {
  color: var(--soft);
  text-decoration: none;
  padding: 9px 0 7px;
  border-bottom: 2px solid transparent;
}
.pages a.on {
  color: var(--ink);
  font-weight: 650;
  border-color: var(--pine);
}
.bar {
  flex: none;
  background: var(--panel);
  border-bottom: 1px solid var(--line);
  padding: 6px 18px;
  display: flex;
  align-items: center;
  gap: 14px;
  font-size: 14px;
}
.space {
  flex: 1;
}
h1 {
  font-size: 14px;
  line-height: 22px;
  font-weight: 650;
}
.link {
  color: var(--pine);
  text-decoration: underline;
}
</style>
