<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { counted } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { useRevert } from '../corrections/revert.ts'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { fullTime } from '../value/time.ts'
import type { GridAsked } from './grid.ts'

/** Whole columns of a grid of the past, put back to what they held then. */
const props = defineProps<{
  typeId: number
  asked: GridAsked
  at: string
  fieldIds: readonly number[]
  names: NamedVocabulary
}>()
const { draft, busy, problem } = useRevert()
const picked = ref<number[]>([])
const whole = ref(false)
watch(
  () => props.typeId,
  () => {
    picked.value = []
    whole.value = false
  },
)
const narrowed = computed(() => props.asked.words !== '' || props.asked.where.length > 0)
const fields = computed(() => props.fieldIds.map((id) => ({ id, title: props.names.fieldName(id) })))
</script>

<template>
  <PressPopover title="Set back …">
    <div class="back">
      <p v-if="narrowed">Only some records are shown. Make a baseline of them: all of it can be put back to that.</p>
      <template v-else>
        <p>Columns of all these records back to what they held {{ fullTime(at) }}. Nothing is written yet.</p>
        <label class="one"
          ><input v-model="whole" type="checkbox" /> <b>whole records</b>: what was made since goes, what was deleted
          since comes back</label
        >
        <label v-for="one in fields" :key="one.id" class="one"
          ><input v-model="picked" type="checkbox" :value="one.id" :disabled="whole" /> {{ one.title }}</label
        >
        <ProblemNote v-if="problem" :problem="problem" />
        <Button
          type="primary"
          :loading="busy"
          :disabled="!whole && picked.length === 0"
          @click="draft({ past: { typeId, at, fieldIds: whole ? [...fieldIds] : picked, whole } })"
          >Draft and rehearse {{ whole ? 'all of it' : counted(picked.length, 'column') }}</Button
        >
      </template>
    </div>
  </PressPopover>
</template>

<style scoped>
.back {
  width: 320px;
  font-size: 13px;
}
.back p {
  margin: 0 0 8px;
}
.one {
  display: block;
  padding: 2px 0;
}
.back :deep(.ant-btn) {
  margin-top: 8px;
}
</style>
