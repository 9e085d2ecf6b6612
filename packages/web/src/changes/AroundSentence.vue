<script setup lang="ts">
import Input from 'ant-design-vue/es/input'
import { eventKinds, type EventKind } from '@spoor/contract'
import { computed, ref } from 'vue'
import ChoicePart from '../scope/ChoicePart.vue'
import SentencePart from '../scope/SentencePart.vue'

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
const open = ref(false)
const choices = computed((): Record<Exclude<Part, 'words'>, { value: string | number; text: string }[]> => ({
  kind: [{ value: '', text: 'anything' }, ...eventKinds.map((kind) => ({ value: kind, text: kind }))],
  by: [{ value: '', text: 'anybody' }, ...props.people.map(({ id, name }) => ({ value: id, text: name }))],
  outcome: [
    { value: '', text: 'with any outcome' },
    { value: 'done', text: 'which was done' },
    { value: 'refused', text: 'which was refused' },
  ],
}))
const words = computed(() => (props.filter.words === '' ? 'in any words' : `with “${props.filter.words}” in it`))
const pieces: readonly { lead: string; part: Part }[] = [
  { lead: 'In Spoor itself: ', part: 'kind' },
  { lead: ' by ', part: 'by' },
  { lead: ', ', part: 'outcome' },
  { lead: ', ', part: 'words' },
]

const chosen = (part: Exclude<Part, 'words'>): string | number => props.filter[part]
const put = (part: Part, value: unknown) => emit('change', { ...props.filter, [part]: value })
</script>

<template>
  <div class="sentence" role="group" aria-label="What was done in Spoor">
    <template v-for="{ lead, part } in pieces" :key="part">
      <span class="words">{{ lead }}</span>
      <SentencePart v-if="part === 'words'" v-model:open="open" :text="words" :narrows="filter.words !== ''">
        <Input
          :value="filter.words"
          size="small"
          autofocus
          allow-clear
          aria-label="Words in it"
          placeholder="Words in it"
          @update:value="(said: string) => put('words', said)"
        />
      </SentencePart>
      <ChoicePart
        v-else
        :value="chosen(part)"
        :choices="choices[part]"
        :narrows="filter[part] !== ''"
        :placeholder="`person ${filter.by}`"
        @choose="(value) => put(part, value)"
      />
    </template>
    <span class="words">.</span>
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
