<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { readWords, sentence, sentenceText, type Scope } from '@spoor/core'
import { computed, onMounted, ref } from 'vue'
import { readerZone } from '../value/time.ts'
import type { NamedVocabulary } from './vocabulary.ts'

/** A scope typed as plain words: what they mean is shown as they are typed, and what they do not stays underlined. */
export interface Props {
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ change: [scope: Scope]; close: [] }>()
const text = defineModel<string>('text', { required: true })
const field = ref<HTMLInputElement | null>(null)
const reading = computed(() => readWords(text.value, props.names, { nowMs: Date.now(), zone: readerZone }))
const unclear = computed(() =>
  reading.value.pieces.filter((piece) => piece.state === 'unknown' || piece.state === 'ambiguous'),
)
const empty = computed(() => Object.keys(reading.value.scope).length === 0)
const shown = computed(() => sentenceText(sentence(reading.value.scope, props.names)))
/** The typed text cut into what was understood, what was not, and what lies between. */
const stretches = computed(() => {
  const list: { text: string; state: string; title: string }[] = []
  let at = 0
  for (const piece of reading.value.pieces) {
    if (piece.from > at) list.push({ text: text.value.slice(at, piece.from), state: '', title: '' })
    list.push({ text: text.value.slice(piece.from, piece.to), state: piece.state, title: piece.meaning.join(' or ') })
    at = piece.to
  }
  if (at < text.value.length) list.push({ text: text.value.slice(at), state: '', title: '' })
  return list
})

onMounted(() => field.value?.focus())
function take() {
  if (empty.value) return
  emit('change', reading.value.scope)
  // What was not understood stays on the screen until it is mended or let go.
  if (unclear.value.length > 0) return
  text.value = ''
  emit('close')
}
</script>

<template>
  <form class="line" @submit.prevent="take">
    <input
      ref="field"
      v-model="text"
      class="field"
      aria-label="The scope in plain words"
      aria-describedby="asked"
      placeholder="rent of tenancies by anyone but imports, last week"
      autocomplete="off"
      spellcheck="false"
      @keydown.esc.stop="emit('close')"
    />
    <Button size="small" html-type="submit" :disabled="empty">Show</Button>
    <button type="button" class="plain quiet" @click="emit('close')">Close</button>
    <div id="asked" class="meaning" role="status">
      <p v-if="text">
        <span v-for="(one, at) in stretches" :key="at" :class="one.state" :title="one.title">{{ one.text }}</span>
      </p>
      <p v-if="!empty" class="quiet">{{ shown }}</p>
      <p v-for="piece in unclear" :key="piece.from" class="attention">
        “{{ text.slice(piece.from, piece.to) }}”
        <template v-if="piece.state === 'ambiguous'"
          >could be {{ piece.meaning.slice(0, 6).join(' or ') }}; say which.</template
        ><template v-else>is no name, date or condition that is known here, and narrows nothing.</template>
      </p>
    </div>
  </form>
</template>

<style scoped>
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
.field {
  flex: 1;
  min-width: 300px;
  font: inherit;
  font-size: 15px;
  height: 32px;
  padding: 0 10px;
  color: var(--ink);
  background: var(--panel);
  border: 1px solid var(--pine);
  border-radius: 3px;
}
.meaning {
  flex-basis: 100%;
  font-size: 13px;
  min-height: 20px;
}
.understood {
  border-bottom: 1.5px dotted var(--pine);
  color: var(--pine);
}
.guessed {
  border-bottom: 1.5px dashed var(--pine);
  color: var(--pine);
}
.unknown,
.ambiguous {
  text-decoration: underline wavy var(--plum);
  text-underline-offset: 3px;
  color: var(--plum);
}
</style>
