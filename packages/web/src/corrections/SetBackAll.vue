<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { useQuery } from '@tanstack/vue-query'
import { routes, type Summary } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed, ref } from 'vue'
import { call } from '../api/client.ts'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useRevert } from './revert.ts'

/** Everything in a scope set back, without picking it. */
export interface Props {
  /** Empty for all there is. */
  scope: string
  summary: Summary
  /** Whether somebody came to do just that. */
  openAtFirst: boolean
}
defineProps<Props>()
const { draft, busy, problem } = useRevert()
const { data } = useQuery({
  queryKey: ['correction sources'],
  queryFn: () => call(routes.listCorrectionSources),
  staleTime: 60_000,
})
/** Where it could be done again; whether it was done there is told when it is tried. */
const sources = computed(() => ((data.value?.sources.length ?? 0) > 1 ? data.value!.sources : []))
const sourceId = ref<number | null>(null)
</script>

<template>
  <PressPopover title="Set back …" :open-at-first="openAtFirst">
    <div class="all">
      <p v-if="scope === ''">
        This would be every change there is. Say first which ones are meant: by whom, of what, or when.
      </p>
      <template v-else>
        <p>
          <b
            >{{ summary.about ? 'More than ' : '' }}{{ counted(summary.changes, 'change') }} in
            {{ counted(summary.saves, 'save') }}</b
          >, all that the sentence above means now.
        </p>
        <p class="quiet">
          Nothing is written yet: you see first what each value holds now, who changed it since, and what the source
          says to it. What others did since stays unless you say otherwise. Records that it deleted come back, records
          that it made go, where all of that is in the sentence above.
        </p>
        <ProblemNote v-if="problem" :problem="problem" />
        <Button type="primary" :loading="busy" :disabled="summary.changes === 0" @click="draft({ scope })"
          >Draft and rehearse</Button
        >
        <span v-if="busy" class="quiet" role="status">&ensp;comparing with the source …</span>
        <form
          v-if="sources.length > 0"
          class="again"
          @submit.prevent="sourceId !== null && draft({ again: { scope, sourceId } })"
        >
          <label
            >Or the same again on
            <select v-model="sourceId">
              <option :value="null" disabled>another source</option>
              <option v-for="one in sources" :key="one.id" :value="one.id">{{ one.name }}</option>
            </select></label
          >
          <Button size="small" html-type="submit" :disabled="sourceId === null || summary.changes === 0" :loading="busy"
            >Draft it there</Button
          >
        </form>
      </template>
    </div>
  </PressPopover>
</template>

<style scoped>
.all {
  width: 380px;
  font-size: 13px;
}
.again {
  display: flex;
  align-items: center;
  gap: 8px;
  margin-top: 12px;
  padding-top: 10px;
  border-top: 1px solid var(--line-soft);
}
.all p {
  margin: 0 0 8px;
}
</style>
