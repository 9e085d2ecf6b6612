<script setup lang="ts">
import { routes, type Change, type ProblemBody, type SaveDetail } from '@spoor/contract'
import { difference, grouped, valueKind, type CapturedValue } from '@spoor/core'
import { computed, ref } from 'vue'
import { addressOf, call, problemOf, textAt } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import TextDifference from '../value/TextDifference.vue'
import ValueText from '../value/ValueText.vue'
import { differenceWords } from '../value/words.ts'

/** One field of an opened save: what it was, what it became and how they differ. A masked one can be revealed. */
export interface Props {
  change: Change
  detail: SaveDetail
  names: NamedVocabulary
}
const props = defineProps<Props>()
const session = useSession()
const revealed = ref<{ before: CapturedValue; after: CapturedValue } | null>(null)
const problem = ref<ProblemBody | null>(null)
const action = computed(() => props.detail.save.action)
const baseType = computed(() => props.names.baseType(props.change.fieldId))
/** The values of which the page was told the beginning only, once somebody wanted them whole. */
const whole = ref<{ before: CapturedValue; after: CapturedValue } | null>(null)
const values = computed(() => {
  const { before, after } = revealed.value ?? whole.value ?? props.change
  return { before: before?.slice(0, mostShown) ?? null, after: after?.slice(0, mostShown) ?? null }
})
const sizes = computed(() => props.detail.sizes[String(props.change.fieldId)] ?? null)
const sides = ['before', 'after'] as const
/** Sides of which only the beginning is shown. */
const cut = computed(() =>
  sizes.value && !revealed.value && !whole.value
    ? sides.filter((side) => (side === 'before' ? props.change.beforeCut : props.change.afterCut))
    : [],
)
const readable = computed(() => cut.value.every((side) => (sizes.value?.[side] ?? 0) <= mostShown))
const addressOfValue = (side: 'before' | 'after') =>
  addressOf(routes.readValue, {
    params: { saveId: props.detail.save.id, fieldId: String(props.change.fieldId) },
    query: { side },
  })
async function showWhole() {
  try {
    const [before, after] = await Promise.all(
      sides.map(async (side) => (cut.value.includes(side) ? await textAt(addressOfValue(side)) : props.change[side])),
    )
    whole.value = { before: before ?? null, after: after ?? null }
    problem.value = null
  } catch (error) {
    problem.value = problemOf(error)
  }
}
const masked = computed(() => props.change.masked && !props.change.erased && revealed.value === null)
const closed = computed(() => masked.value || props.change.erased)
/** More would hold up the page for longer than anybody reads. */
const mostShown = 1_000_000
/** Long texts and json are told apart inside. */
const longText = 60
const told = computed(() => {
  const { before, after } = values.value
  if (closed.value || action.value !== 'change' || before === null || after === null) return false
  const kind = valueKind(baseType.value)
  return kind === 'json' || (kind === 'text' && Math.max(before.length, after.length) > longText)
})
/** What the record is called that a reference points to. */
const labelOf = (value: CapturedValue) =>
  props.detail.references.find((one) => one.fieldId === props.change.fieldId && one.value === value)?.label

async function reveal() {
  try {
    revealed.value = await call(routes.revealChange, {
      params: { saveId: props.detail.save.id },
      body: { fieldId: props.change.fieldId },
    })
    problem.value = null
  } catch (error) {
    problem.value = problemOf(error)
  }
}
</script>

<template>
  <div class="line">
    <span class="quiet">{{ names.fieldName(change.fieldId) }}</span>
    <span v-if="names.plan(change.fieldId).sensitive" class="quiet">sensitive</span>
    <span class="space" />
    <span v-if="!closed && cut.length === 0" class="quiet difference">{{
      differenceWords(difference(values.before, values.after, baseType))
    }}</span>
    <button v-if="masked && session.may('values.reveal')" class="plain act" @click="reveal">
      Reveal (this is recorded)
    </button>
    <slot />
  </div>
  <TextDifference v-if="told" :before="values.before!" :after="values.after!" :base-type="baseType" />
  <template v-for="side in ['before', 'after'] as const" v-else :key="side">
    <div v-if="side === 'before' ? action !== 'create' : action !== 'delete'" class="value">
      <ValueText
        :value="values[side]"
        :base-type="baseType"
        :side="side"
        :masked="masked"
        :erased="change.erased"
        whole
      />
      <bdi v-if="labelOf(values[side])" class="quiet">{{ labelOf(values[side]) }}</bdi>
    </div>
  </template>
  <p v-if="cut.length > 0" class="cut quiet">
    Only the beginning is shown.
    <button v-if="readable" class="plain act" @click="showWhole">Show it whole</button>
    <template v-for="side in cut" :key="side">
      <a :href="addressOfValue(side)" download
        >the value {{ side }}, {{ grouped(sizes?.[side] ?? 0) }} bytes, as a file</a
      >{{ ' ' }}
    </template>
  </p>
  <ProblemNote v-if="problem" :problem="problem" />
</template>

<style scoped>
.line {
  display: flex;
  gap: 12px;
  align-items: baseline;
  font-size: 12.5px;
}
.space {
  flex: 1;
}
.difference {
  text-align: right;
}
.cut {
  font-size: 12.5px;
}
.act {
  color: var(--pine);
  white-space: nowrap;
}
.value {
  display: flex;
  gap: 12px;
  align-items: baseline;
}
</style>
