<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import DatePicker from 'ant-design-vue/es/date-picker'
import Input from 'ant-design-vue/es/input'
import Radio from 'ant-design-vue/es/radio'
import PickList from '../frame/PickList.vue'
import dayjs, { type Dayjs } from 'dayjs'
import { routes, type DirectoryEntry, type ProblemBody, type Unmapped } from '@spoor/contract'
import { actorKinds, kindPlural, type ActorKind } from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'

/** Says who a login, or a name that an application says, is. */
export interface Props {
  unmapped: Pick<Unmapped, 'sourceId' | 'by' | 'text'>
  entries: readonly DirectoryEntry[]
}
const props = defineProps<Props>()
const emit = defineEmits<{ done: []; close: [] }>()
const how = ref<'known' | 'new'>('known')
const actorId = ref<number>()
const kind = ref<ActorKind>('job')
const name = ref('')
const forActorId = ref<number>()
const fromOn = ref<string | null>(null)
const untilOn = ref<string | null>(null)
const problem = ref<ProblemBody | null>(null)
const busy = ref(false)
const options = (of: readonly DirectoryEntry[]) =>
  of.map((entry) => ({ value: entry.actorId, label: entry.unit ? `${entry.name}, ${entry.unit}` : entry.name }))
const isDelegate = computed(
  () =>
    (how.value === 'new' ? kind.value : props.entries.find((entry) => entry.actorId === actorId.value)?.kind) ===
    'delegate',
)
const ready = computed(() => (how.value === 'known' ? actorId.value !== undefined : name.value.trim() !== ''))
const day = (text: string | null) => (text === null ? undefined : dayjs(text)) as never
const text = (value: Dayjs | string | null) => (value ? dayjs(value).format('YYYY-MM-DD') : null)

async function keep() {
  busy.value = true
  try {
    const { sourceId, by, text: said } = props.unmapped
    const who = how.value === 'known' ? { actorId: actorId.value! } : { kind: kind.value, name: name.value }
    await call(routes.setIdentity, {
      body: {
        sourceId,
        by,
        text: said,
        who,
        forActorId: isDelegate.value ? (forActorId.value ?? null) : null,
        fromOn: fromOn.value,
        untilOn: untilOn.value,
      },
    })
    emit('done')
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <section class="block" aria-label="Say who this is">
    <h3>
      <span
        >Who is {{ unmapped.by }} <span class="mono">{{ unmapped.text }}</span>?</span
      >
      <button class="plain quiet" aria-label="Close" @click="emit('close')">✕</button>
    </h3>
    <Radio.Group v-model:value="how">
      <Radio value="known">somebody known</Radio>
      <Radio value="new">something not known yet</Radio>
    </Radio.Group>
    <PickList
      v-if="how === 'known'"
      v-model:value="actorId"
      size="small"
      show-search
      option-filter-prop="label"
      placeholder="Find somebody"
      aria-label="Who it is"
      :options="options(entries)"
    />
    <div v-else class="pair">
      <PickList
        v-model:value="kind"
        size="small"
        aria-label="Kind"
        :options="
          actorKinds
            .filter((one) => one !== 'unknown')
            .map((one) => ({ value: one, label: kindPlural[one].replace(/people/, 'person').replace(/s$/, '') }))
        "
      />
      <Input v-model:value="name" size="small" placeholder="What to call it" aria-label="What to call it" />
    </div>
    <label v-if="isDelegate"
      >Acting for
      <PickList
        v-model:value="forActorId"
        size="small"
        show-search
        allow-clear
        option-filter-prop="label"
        placeholder="nobody in particular"
        aria-label="Acting for"
        :options="options(entries.filter((entry) => entry.kind === 'person'))"
    /></label>
    <div class="pair">
      <label
        >From
        <DatePicker
          :value="day(fromOn)"
          size="small"
          format="D MMM YYYY"
          placeholder="always"
          @change="(value: Dayjs | string) => (fromOn = text(value))"
      /></label>
      <label
        >until
        <DatePicker
          :value="day(untilOn)"
          size="small"
          format="D MMM YYYY"
          placeholder="further notice"
          @change="(value: Dayjs | string) => (untilOn = text(value))"
      /></label>
    </div>
    <p class="quiet">
      From now on its saves are theirs. Saves made before keep the name they were made under, and are found under both.
    </p>
    <Button type="primary" :disabled="!ready" :loading="busy" @click="keep">Keep this</Button>
    <ProblemNote v-if="problem" :problem="problem" />
  </section>
</template>

<style scoped>
.block {
  padding: 12px 18px;
  border-bottom: 1px solid var(--line);
  display: grid;
  gap: 9px;
  font-size: 13px;
  justify-items: stretch;
}
h3 {
  font-size: 15px;
  font-weight: 650;
  display: flex;
  justify-content: space-between;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
/* Ant Design Vue's own radios and checkboxes are labels too. */
label:not(.ant-radio-wrapper, .ant-checkbox-wrapper) {
  display: grid;
}
.block > :deep(.ant-btn) {
  justify-self: start;
}
</style>
