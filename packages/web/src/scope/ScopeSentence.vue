<script setup lang="ts">
import Popover from 'ant-design-vue/es/popover'
import {
  counted,
  isHollow,
  sentence,
  withoutPart,
  withPart,
  type PartName,
  type Scope,
  type ScopePart,
} from '@spoor/core'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useSession } from '../session/session.ts'
import SentencePart from './SentencePart.vue'
import type { NamedVocabulary } from './vocabulary.ts'

/** The sentence that says which changes are meant; each of its parts opens an editor where it stands. */
export interface Props {
  scope: Scope
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ change: [scope: Scope] }>()

const pieces = computed(() => sentence(props.scope, props.names))
const open = ref<PartName | null>(null)
/** Fetched when one is first opened, so that the list need not wait for calendars and choices. */
const editors = {
  who: defineAsyncComponent(() => import('./WhoEditor.vue')),
  what: defineAsyncComponent(() => import('./WhatEditor.vue')),
  record: defineAsyncComponent(() => import('./RecordEditor.vue')),
  holds: defineAsyncComponent(() => import('./HoldsEditor.vue')),
  when: defineAsyncComponent(() => import('./WhenEditor.vue')),
  clock: defineAsyncComponent(() => import('./ClockEditor.vue')),
  how: defineAsyncComponent(() => import('./HowEditor.vue')),
  value: defineAsyncComponent(() => import('./ValueEditor.vue')),
  reason: defineAsyncComponent(() => import('./ReasonEditor.vue')),
  state: defineAsyncComponent(() => import('./StateEditor.vue')),
}
/** Parts that stand in the sentence only when they narrow it; what can still be added folds into one press. */
const more = [
  { part: 'record', title: 'Records', hint: 'named ones, with their lines' },
  { part: 'holds', title: 'What records held', hint: 'those whose officer was somebody, whose status is now void' },
  { part: 'value', title: 'Values', hint: 'from, to, holding, rose or fell by' },
  { part: 'how', title: 'How', hint: 'created, changed, deleted; by which channel or run' },
  { part: 'clock', title: 'Hours and days', hint: 'at night, at weekends, on Mondays' },
  { part: 'reason', title: 'Reason', hint: 'given, missing, holding a word' },
  { part: 'state', title: 'What became of it', hint: 'reviewed, asked about, set back' },
] as const
const session = useSession()
const addable = computed(() => more.filter(({ part }) => !props.scope[part] && (part !== 'holds' || session.seesAll)))
const adding = ref<PartName | 'choose' | null>(null)

function put(part: ScopePart) {
  // What was added goes on being edited where it stands in the sentence.
  if (adding.value === part.part && !isHollow(part)) {
    adding.value = null
    open.value = part.part
  }
  emit('change', isHollow(part) ? withoutPart(props.scope, part.part) : withPart(props.scope, part))
}

function turn(name: PartName) {
  const part = props.scope[name]
  if (part) put({ ...part, exclude: !part.exclude })
}

function remove(name: PartName) {
  open.value = null
  emit('change', withoutPart(props.scope, name))
}
</script>

<template>
  <div class="sentence" role="group" aria-label="Scope">
    <template v-for="(piece, at) in pieces" :key="at">
      <span v-if="piece.piece === 'words'" class="words">{{ piece.text }}</span>
      <SentencePart
        v-else
        :open="open === piece.part"
        :text="piece.text"
        :narrows="piece.narrows"
        :exclude="piece.exclude"
        :many="piece.part === 'record' ? counted(scope.record?.records.length ?? 0, 'record') : undefined"
        :data-part="piece.part"
        @update:open="(now) => (open = now ? piece.part : null)"
      >
        <div class="editor">
          <component :is="editors[piece.part]" :part="scope[piece.part] as never" :names="names" @put="put" />
          <div v-if="piece.narrows" class="acts">
            <button class="plain act" @click="turn(piece.part)">
              {{ piece.exclude ? 'Only these instead' : 'Everything but these instead' }}
            </button>
            <button class="plain act" @click="remove(piece.part)">Remove this part</button>
          </div>
        </div>
      </SentencePart>
    </template>
    <Popover
      v-if="addable.length > 0 || adding !== null"
      :open="adding !== null"
      trigger="click"
      placement="bottomLeft"
      :arrow="false"
      destroy-tooltip-on-hide
      @open-change="(now: boolean) => (adding = now ? 'choose' : null)"
    >
      <button class="plain more" :aria-expanded="adding !== null">Narrow further</button>
      <template #content>
        <div class="editor" @keydown.esc="adding = null">
          <ul v-if="adding === 'choose'">
            <li v-for="one in addable" :key="one.part">
              <button class="plain act" @click="adding = one.part">{{ one.title }}</button>
              <span class="quiet"> {{ one.hint }}</span>
            </li>
          </ul>
          <component
            :is="editors[adding]"
            v-else-if="adding"
            :part="scope[adding] as never"
            :names="names"
            @put="put"
          />
        </div>
      </template>
    </Popover>
    <button v-if="Object.keys(scope).length > 1" class="plain more" @click="emit('change', {})">Clear all</button>
  </div>
</template>

<style scoped src="./sentence.css"></style>
