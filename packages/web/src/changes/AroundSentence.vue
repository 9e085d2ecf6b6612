<script setup lang="ts">
import Input from 'ant-design-vue/es/input'
import { eventKinds, type EventKind } from '@spoor/contract'
import { computed, ref } from 'vue'
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
function told(part: Part): string {
  if (part === 'words') return props.filter.words === '' ? 'in any words' : `with “${props.filter.words}” in it`
  return choices.value[part].find(({ value }) => value === props.filter[part])?.text ?? `person ${props.filter.by}`
}
const pieces: readonly { lead: string; part: Part }[] = [
  { lead: 'In Spoor itself: ', part: 'kind' },
  { lead: ' by ', part: 'by' },
  { lead: ', ', part: 'outcome' },
  { lead: ', ', part: 'words' },
]

const put = (part: Part, value: unknown) => emit('change', { ...props.filter, [part]: value })
function choose(part: Part, value: unknown) {
  open.value = null
  put(part, value)
}
</script>

<template>
  <div class="sentence" role="group" aria-label="What was done in Spoor">
    <template v-for="{ lead, part } in pieces" :key="part">
      <span class="words">{{ lead }}</span>
      <SentencePart
        :open="open === part"
        :text="told(part)"
        :narrows="filter[part] !== ''"
        @update:open="(now) => (open = now ? part : null)"
      >
        <Input
          v-if="part === 'words'"
          :value="filter.words"
          size="small"
          autofocus
          allow-clear
          aria-label="Words in it"
          placeholder="Words in it"
          @update:value="(words: string) => put('words', words)"
        />
        <ul v-else class="choices">
          <li v-for="one in choices[part]" :key="one.value">
            <button class="plain act" :aria-current="one.value === filter[part]" @click="choose(part, one.value)">
              {{ one.text }}
            </button>
          </li>
        </ul>
      </SentencePart>
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
<style scoped>
.choices {
  max-height: 320px;
  overflow: auto;
}
.choices [aria-current='true'] {
  font-weight: 650;
}
</style>
