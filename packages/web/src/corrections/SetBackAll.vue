<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import type { Summary } from '@spoor/contract'
import { counted } from '@spoor/core'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useRevert } from './revert.ts'

/** Everything in a scope set back, without picking it. */
export interface Props {
  /** Empty for all there is. */
  scope: string
  summary: Summary
}
defineProps<Props>()
const { draft, busy, problem } = useRevert()
</script>

<template>
  <PressPopover title="Set back …">
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
      </template>
    </div>
  </PressPopover>
</template>

<style scoped>
.all {
  width: 380px;
  font-size: 13px;
}
.all p {
  margin: 0 0 8px;
}
</style>
