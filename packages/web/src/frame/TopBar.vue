<script setup lang="ts">
import Popover from 'ant-design-vue/es/popover'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRouter } from 'vue-router'
import { roleNames } from '@spoor/contract'
import FindBox from '../find/FindBox.vue'
import { useSession } from '../session/session.ts'
import KeysHelp from './KeysHelp.vue'
import PulseMark from './PulseMark.vue'
import SpoorMark from './SpoorMark.vue'
import { stages } from './stages.ts'
import { useTray } from './tray.ts'
import { usePulse } from './pulse.ts'

const OwnPassword = defineAsyncComponent(() => import('../session/OwnPassword.vue'))
const ZoneChoice = defineAsyncComponent(() => import('../session/ZoneChoice.vue'))
const session = useSession()
const router = useRouter()
const tray = useTray()
const pulse = usePulse()
const changing = ref(false)
const working = computed(() => (session.may('work.read') ? (pulse.pulse?.working ?? 0) : 0))
const shown = computed(() => stages.filter((stage) => session.may(stage.needs)))
const initials = computed(() =>
  (session.person?.name ?? '')
    .split(' ')
    .map((word) => word[0])
    .slice(0, 2)
    .join(''),
)

async function signOut() {
  await session.signOut()
  tray.empty()
  pulse.stop()
  await router.push({ name: 'sign-in' })
}
</script>

<template>
  <header>
    <RouterLink class="mark" to="/today"><SpoorMark class="print" />Spoor</RouterLink>
    <nav aria-label="Stages">
      <RouterLink
        v-for="stage in shown"
        :key="stage.path"
        :to="stage.path"
        :class="{ on: $route.path.startsWith(stage.path) }"
      >
        {{ stage.title }}
      </RouterLink>
    </nav>
    <span class="space" />
    <FindBox v-if="session.may('changes.read')" />
    <RouterLink v-if="working > 0" class="working" to="/work">{{ working }} under way</RouterLink>
    <PulseMark />
    <KeysHelp />
    <Popover trigger="click" placement="bottomRight" :arrow="false" @open-change="changing = false">
      <button class="plain who" :aria-label="`Signed in as ${session.person?.name}`">{{ initials }}</button>
      <template #content>
        <div class="person">
          <b>{{ session.person?.name }}</b>
          <span class="quiet">{{ session.person && roleNames[session.person.role] }}</span>
          <RouterLink v-if="session.may('work.read')" class="out" to="/work">Long work</RouterLink>
          <button class="plain out" :aria-expanded="changing" @click="changing = !changing">
            Change your password
          </button>
          <OwnPassword v-if="changing" />
          <ZoneChoice class="out" />
          <button class="plain out" @click="signOut">Sign out</button>
        </div>
      </template>
    </Popover>
  </header>
</template>

<style scoped>
header {
  height: 48px;
  flex: none;
  display: flex;
  align-items: center;
  gap: 22px;
  padding: 0 18px;
  background: var(--bar);
  color: var(--bar-ink);
}
.mark {
  display: flex;
  align-items: center;
  gap: 9px;
  font-weight: 650;
  font-size: 16px;
  color: inherit;
  text-decoration: none;
}
.print {
  color: var(--bar-mark);
}
nav {
  display: flex;
  gap: 22px;
  align-self: stretch;
}
nav a {
  color: var(--bar-soft);
  text-decoration: none;
  display: flex;
  align-items: center;
  border-bottom: 3px solid transparent;
  padding-top: 3px;
}
nav a.on {
  color: #fff;
  border-color: var(--bar-mark);
}
header :focus-visible {
  outline-color: var(--bar-mark);
}
.space {
  flex: 1;
}
.working {
  color: var(--bar-mark);
  font-size: 12px;
  white-space: nowrap;
}
.who {
  width: 28px;
  height: 28px;
  border-radius: 50%;
  background: #3a4742;
  display: grid;
  place-items: center;
  font-size: 11px;
}
.person {
  display: grid;
  gap: 2px;
  min-width: 180px;
}
.out {
  color: var(--pine);
  margin-top: 8px;
  text-align: left;
}
</style>
