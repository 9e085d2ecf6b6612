<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { routes } from '@spoor/contract'
import { counted } from '@spoor/core'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { call } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { fullTime } from '../value/time.ts'
import type { GridAsked } from './grid.ts'

/** The moment and the records of a grid, given a name. */
const props = defineProps<{ typeId: number; asked: GridAsked; fieldIds: readonly number[] }>()
const router = useRouter()
const { busy, problem, doing } = useDoing()
const name = ref('')
const why = ref('')
const make = () =>
  doing(async () => {
    const { words, at, where } = props.asked
    const baseline = await call(routes.makeBaseline, {
      body: {
        name: name.value,
        typeId: props.typeId,
        fieldIds: [...props.fieldIds],
        where: [...where],
        why: why.value,
        ...(words === '' ? {} : { words }),
        ...(at === null ? {} : { at }),
      },
    })
    await router.push({ name: 'baseline', params: { baselineId: String(baseline.id) } })
  })
</script>

<template>
  <PressPopover title="Baseline …">
    <form class="make" @submit.prevent="make">
      <p>
        These records as they {{ asked.at === null ? 'stand now' : `stood ${fullTime(asked.at)}` }}, with the
        {{ counted(fieldIds.length, 'field') }} that are shown, under a name. Later states are compared with it.
      </p>
      <Input v-model:value="name" aria-label="Name" placeholder="A name, say Year end 2026" :maxlength="120" />
      <Input v-model:value="why" aria-label="Why" placeholder="Why it is made" :maxlength="2000" />
      <ProblemNote v-if="problem" :problem="problem" />
      <Button
        type="primary"
        html-type="submit"
        :loading="busy"
        :disabled="name.trim().length < 3 || why.trim().length < 3"
        >Make the baseline</Button
      >
    </form>
  </PressPopover>
</template>

<style scoped>
.make {
  width: 340px;
  display: grid;
  gap: 8px;
  font-size: 13px;
}
.make p {
  margin: 0;
}
</style>
