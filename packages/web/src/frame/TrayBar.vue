<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { counted, listed } from '@spoor/core'
import { routes, type ProblemBody } from '@spoor/contract'
import { useEventListener } from '@vueuse/core'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import { useRevert } from '../corrections/revert.ts'
import { useSession } from '../session/session.ts'
import ProblemNote from './ProblemNote.vue'
import { useTray } from './tray.ts'
import { isWriting } from './writing.ts'

/** Fetched when used: the bar stands on every page, and calendars and choices are no part of a first visit. */
const GatherForm = defineAsyncComponent(() => import('../cases/GatherForm.vue'))
const ReviewForm = defineAsyncComponent(() => import('../review/ReviewForm.vue'))
const tray = useTray()
const session = useSession()
const { draft, busy, problem } = useRevert()
const labels = computed(() => [...new Set(tray.saves.map((save) => save.label))])

const markProblem = ref<ProblemBody | null>(null)
const said = ref('')
const act = ref<'note' | 'assign' | 'ask' | 'gather' | null>(null)
const ids = computed(() => tray.saves.map((save) => save.id))
watch(ids, () => (said.value = ''))
const whom = computed(() => {
  const names = [...new Set(tray.saves.map((save) => save.actor.knownAs ?? save.actor.name))]
  return names.length > 3 ? `the ${names.length} who made them` : listed(names)
})
function done(words: string) {
  act.value = null
  said.value = words
}

async function markAll(mark: 'reviewed' | 'flagged') {
  try {
    await call(routes.markSaves, { body: { saveIds: ids.value, mark, on: true } })
    markProblem.value = null
    said.value = `Marked ${mark}.`
  } catch (error) {
    markProblem.value = problemOf(error)
  }
}

async function revert() {
  await draft({ changes: tray.saves.map((save) => ({ saveId: save.id })) })
}
const route = useRoute()
/** Of a save that stands open the key is its own. */
useEventListener('keydown', (event) => {
  if (event.key !== 'r' || event.ctrlKey || event.metaKey || event.altKey || isWriting(event.target)) return
  if (tray.saves.length > 0 && route.query['save'] === undefined && session.may('corrections.draft')) void revert()
})
</script>

<template>
  <section v-if="tray.saves.length > 0" class="tray" aria-label="Tray">
    <ProblemNote v-if="problem" :problem="problem" class="note" />
    <ProblemNote v-if="markProblem" :problem="markProblem" class="note" />
    <GatherForm
      v-if="act === 'gather'"
      class="note"
      :things="() => ids.map((saveId) => ({ kind: 'save', saveId }))"
      @done="done"
      @keydown.esc.stop="act = null"
    />
    <ReviewForm
      v-else-if="act"
      :key="act"
      class="note"
      :act="act"
      :saves="async () => ids"
      :whom="whom"
      @done="done"
      @close="act = null"
    />
    <b>{{ counted(tray.saves.length, 'save') }} in the tray</b>
    <span class="quiet labels"
      >{{ labels.slice(0, 4).join(', ') }}{{ labels.length > 4 ? ` and ${labels.length - 4} more` : '' }}</span
    >
    <span role="status">{{ said }}</span>
    <span class="space" />
    <Button v-if="session.may('corrections.draft')" type="primary" :loading="busy" @click="revert"
      >Rehearse a revert</Button
    >
    <template v-if="session.may('changes.mark')">
      <Button @click="markAll('reviewed')">Mark reviewed</Button>
      <Button @click="markAll('flagged')">Flag</Button>
    </template>
    <template v-if="session.may('review.write')">
      <Button @click="act = 'note'">Note</Button>
      <Button @click="act = 'assign'">Assign</Button>
      <Button @click="act = 'ask'">Ask</Button>
    </template>
    <Button v-if="session.may('cases.write')" title="Gather them in a case" @click="act = 'gather'">Case …</Button>
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
[role='status'] {
  font-size: 13px;
}
.labels {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  max-width: 18vw;
}
.space {
  flex: 1;
}
</style>
