<script setup lang="ts">
import ConfigProvider from 'ant-design-vue/es/config-provider'
import enGB from 'ant-design-vue/es/locale/en_GB'
import { watch } from 'vue'
import { useRouter } from 'vue-router'
import { onSignedOut } from './api/client.ts'
import BeingRead from './frame/BeingRead.vue'
import TopBar from './frame/TopBar.vue'
import TrayBar from './frame/TrayBar.vue'
import { usePulse } from './frame/pulse.ts'
import { useSession } from './session/session.ts'
import { useTheme } from './theme.ts'

const theme = useTheme()
const session = useSession()
const pulse = usePulse()
const router = useRouter()

watch(
  () => session.person,
  (person) => (person ? pulse.start() : pulse.stop()),
)

onSignedOut(async () => {
  const here = router.currentRoute.value
  await session.lapse()
  if (here.name !== 'sign-in') await router.push({ name: 'sign-in', query: { next: here.fullPath } })
})
</script>

<template>
  <ConfigProvider :theme="theme" :locale="enGB" :auto-insert-space-in-button="false">
    <div class="frame">
      <TopBar v-if="session.person" />
      <div class="view"><RouterView /></div>
      <BeingRead />
      <TrayBar v-if="session.person" />
    </div>
  </ConfigProvider>
</template>

<style scoped>
.frame {
  height: 100%;
  display: flex;
  flex-direction: column;
}
.view {
  flex: 1;
  min-height: 0;
  display: flex;
  flex-direction: column;
}
</style>
