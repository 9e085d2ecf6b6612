<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { counted } from '@spoor/core'
import { routes, type ProblemBody } from '@spoor/contract'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { useRevert } from '../corrections/revert.ts'
import { useSession } from '../session/session.ts'
import ProblemNote from './ProblemNote.vue'
import { useTray } from './tray.ts'

const tray = useTray()
const session = useSession()
const { draft, busy, problem } = useRevert()
const labels = computed(() => [...new Set(tray.saves.map((save) => save.label))])

const markProblem = ref<ProblemBody | null>(null)
async function markAll() {
  try {
    await call(routes.markSaves, { body: { saveIds: tray.saves.map((save) => save.id), mark: 'reviewed', on: true } })
    markProblem.value = null
    tray.empty()
  } catch (error) {
    markProblem.value = problemOf(error)
  }
}

async function revert() {
  await draft(tray.saves.map((save) => ({ saveId: save.id })))
}
</script>

<template>
  <section v-if="tray.saves.length > 0" class="tray" aria-label="Tray">
    <ProblemNote v-if="problem" :problem="problem" class="note" />
    <ProblemNote v-if="markProblem" :problem="markProblem" class="note" />
    <b>{{ counted(tray.saves.length, 'save') }} in the tray</b>
    <span class="quiet labels"
      >{{ labels.slice(0, 4).join(', ') }}{{ labels.length > 4 ? ` and ${labels.length - 4} more` : '' }}</span
    >
    <span class="space" />
    <Button v-if="session.may('corrections.draft')" type="primary" :loading="busy" @click="revert"
      >Rehearse a revert</Button
    >
    <Button v-if="session.may('changes.mark')" @click="markAll">Mark reviewed</Button>
    <button class="plain quiet" @click="tray.empty()">Empty the tray</button>
  </section>
</template>

<style scoped>
.tray {
  flex: none;
  min-height: 46px;
  background: var(--panel);
  border-top: 2px solid var(--pine);
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 14px;
  padding: 6px 18px;
}
.note {
  flex-basis: 100%;
}
.labels {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  max-width: 50vw;
}
.space {
  flex: 1;
}
</style>
