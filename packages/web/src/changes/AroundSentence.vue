<script setup lang="ts">
import Input from 'ant-design-vue/es/input'
import Popover from 'ant-design-vue/es/popover'
import { eventKinds, type EventKind } from '@spoor/contract'
import { computed, ref } from 'vue'

/** What was done in Spoor is asked for as changes are: a sentence whose parts are pressed. */
export interface AroundFilter {
  kind: EventKind | ''
  /** A person's number; 0 for nobody's. */
  by: number | ''
  outcome: 'done' | 'refused' | ''
  words: string
}
export interface Props {
  filter: AroundFilter
  people: readonly { id: number; name: string }[]
}
const props = defineProps<Props>()
const emit = defineEmits<{ change: [filter: AroundFilter] }>()

type Part = keyof AroundFilter
const open = ref<Part | null>(null)
const choices = computed(() => ({
  kind: [{ value: '', text: 'anything' }, ...eventKinds.map((kind) => ({ value: kind, text: kind }))],
  by: [{ value: '', text: 'anybody' }, ...props.people.map(({ id, name }) => ({ value: id, text: name }))],
  outcome: [
    { value: '', text: 'with any outcome' },
    { value: 'done', text: 'which was done' },
    { value: 'refused', text: 'which was refused' },
  ],
}))
const told = (part: Exclude<Part, 'words'>) =>
  choices.value[part].find(({ value }) => value === props.filter[part])?.text ?? `person ${props.filter.by}`
const pieces = computed(() => [
  { lead: 'In Spoor itself: ', part: 'kind' as const },
  { lead: ' by ', part: 'by' as const },
  { lead: ', ', part: 'outcome' as const },
])

function choose(part: Part, value: unknown) {
  open.value = null
  emit('change', { ...props.filter, [part]: value })
}
</script>

<template>
  <div class="sentence" role="group" aria-label="What was done in Spoor">
    <template v-for="{ lead, part } in pieces" :key="part">
      <span class="words">{{ lead }}</span>
      <Popover
        :open="open === part"
        trigger="click"
        placement="bottomLeft"
        :arrow="false"
        destroy-tooltip-on-hide
        @open-change="(now: boolean) => (open = now ? part : null)"
      >
        <span
          class="part"
          role="button"
          tabindex="0"
          :class="{ narrows: filter[part] !== '' }"
          :aria-expanded="open === part"
          @keydown.enter.prevent="open = part"
          @keydown.space.prevent="open = part"
          >{{ told(part) }}</span
        >
        <template #content>
          <ul class="choices" @keydown.esc="open = null">
            <li v-for="one in choices[part]" :key="one.value">
              <button class="plain act" :aria-current="one.value === filter[part]" @click="choose(part, one.value)">
                {{ one.text }}
              </button>
            </li>
          </ul>
        </template>
      </Popover>
    </template>
    <span v-if="!filter.words" class="words">.</span>
    <Popover
      :open="open === 'words'"
      trigger="click"
      placement="bottomLeft"
      :arrow="false"
      destroy-tooltip-on-hide
      @open-change="(now: boolean) => (open = now ? 'words' : null)"
    >
      <span v-if="filter.words" class="words"
        >,
        <span
          class="part narrows"
          role="button"
          tabindex="0"
          :aria-expanded="open === 'words'"
          @keydown.enter.prevent="open = 'words'"
          @keydown.space.prevent="open = 'words'"
          >told with “{{ filter.words }}”</span
        ></span
      >
      <button v-else class="plain more" :aria-expanded="open === 'words'">Narrow further</button>
      <template #content>
        <div class="editor" @keydown.esc="open = null">
          <Input
            :value="filter.words"
            size="small"
            autofocus
            allow-clear
            aria-label="Words in it"
            placeholder="Words in it"
            @update:value="(words: string) => emit('change', { ...filter, words })"
          />
        </div>
      </template>
    </Popover>
    <span v-if="filter.words" class="words">.</span>
    <button
      v-if="Object.values(filter).some((one) => one !== '')"
      class="plain more"
      @click="emit('change', { kind: '', by: '', outcome: '', words: '' })"
    >
      Clear all
    </button>
  </div>
</template>

<style scoped src="../scope/sentence.css"></style>
<style scoped>
.choices {
  max-height: 320px;
  overflow: auto;
}
.choices [aria-current='true'] {
  font-weight: 650;
}
</style>
