<script setup lang="ts">
import type { Correction, CorrectionGroup, CorrectionItem } from '@spoor/contract'
import { counted, grouped, listed } from '@spoor/core'
import { computed, ref, toRef } from 'vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useRows } from '../frame/rows.ts'
import { recordLink } from '../records/link.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import ValueText from '../value/ValueText.vue'
import ChoiceRadios from './ChoiceRadios.vue'
import { choiceOfGroup, choiceOfItem, groupReason, groupWords, useGroups } from './groups.ts'

/** The values of a correction by what they have in common, counts first; more of a group on demand. */
export interface Props {
  correction: Correction
  names: NamedVocabulary
  busy: boolean
}
type Chosen = 'overwrite' | 'merge' | 'leave'
const props = defineProps<Props>()
const emit = defineEmits<{
  choose: [{ choices: { itemId: number; choice: Chosen }[] }]
  chooseAll: [{ group: string; choice: Chosen }]
}>()
const { lines, more, problem, fetching } = useGroups(toRef(props, 'correction'))
const again = computed(() => props.correction.repeats !== null)
const draft = computed(() => props.correction.state === 'draft')
/** Until it was compared with the source, nothing is known of what is there now. */
const compared = computed(() => !draft.value || props.correction.trial !== null)
const wordsOf = (group: CorrectionGroup) =>
  compared.value ? groupWords(group, draft.value, again.value) : `${counted(group.values, 'value')} drafted`
const reasonOf = (group: CorrectionGroup) =>
  compared.value ? groupReason(group, draft.value, again.value) : 'not compared with the source yet'
const scroller = ref<HTMLElement | null>(null)
const { height, visible } = useRows(lines, scroller, async () => {})

const recordOf = (item: CorrectionItem) => `${props.names.typeTitle(item.typeId)} ${item.label}`
/** What a value is to be, or what the source makes of it. */
const becomes = (item: CorrectionItem) => {
  if (item.state !== 'follows') return item.choice === 'merge' ? item.merged : item.target
  return item.foretold ? item.foretold.value : item.now
}
const mayChoose = ({ state }: { state: CorrectionItem['state'] }) =>
  draft.value && (state === 'clear' || state === 'changed-since')
const wrote = ({ act, choice }: CorrectionItem): string => {
  if (act === 'remove') return 'removed'
  if (act === 'recreate') return again.value ? 'made here too' : 'made anew'
  if (choice === 'merge') return 'merged'
  return again.value ? 'made again' : 'set back'
}
const someSetBack = ({ chosen, merges, values }: CorrectionGroup) =>
  merges === chosen ? `${grouped(merges)} of ${grouped(values)} merged` : `${grouped(chosen)} set back`
const fieldsOf = (group: CorrectionGroup) =>
  group.fieldIds.length > 3
    ? counted(group.fieldIds.length, 'field')
    : listed(group.fieldIds.map((id) => props.names.fieldName(id)))
const needsEye = ({ state }: CorrectionGroup) => draft.value && (state === 'changed-since' || state === 'blocked')
</script>

<template>
  <section class="items">
    <ProblemNote v-if="problem" :problem="problem" />
    <div
      ref="scroller"
      class="rows"
      role="table"
      aria-label="Values"
      :aria-busy="fetching"
      tabindex="0"
      style="
        --columns: minmax(150px, 1.4fr) minmax(100px, 0.8fr) minmax(80px, 0.9fr) minmax(80px, 0.9fr) minmax(80px, 0.9fr)
          232px;
        --least: 860px;
      "
    >
      <div class="line head" role="row">
        <span role="columnheader">Record</span><span role="columnheader">Field</span
        ><span role="columnheader">{{ again ? 'Was there' : 'Found after' }}</span
        ><span role="columnheader">{{ draft ? 'Now' : 'Then' }}</span
        ><span role="columnheader">{{ draft ? 'Will get' : 'Was to get' }}</span
        ><span role="columnheader">{{ draft ? 'What to do' : 'What became of it' }}</span>
      </div>
      <div :style="{ height: `${height}px`, position: 'relative' }" role="rowgroup">
        <template
          v-for="{ start, row } in visible"
          :key="row.line === 'item' ? row.item.id : `${row.line} ${row.group.id}`"
        >
          <div
            v-if="row.line === 'group'"
            class="line group"
            role="row"
            :data-group="row.group.state"
            :style="{ transform: `translateY(${start}px)` }"
          >
            <span role="cell" class="common">
              <b :class="{ attention: needsEye(row.group) }">{{ wordsOf(row.group) }}</b>
              <span class="quiet"
                >{{ fieldsOf(row.group) }} of {{ counted(row.group.records, 'record')
                }}<template v-if="reasonOf(row.group)">
                  · <bdi>{{ reasonOf(row.group) }}</bdi></template
                ></span
              >
            </span>
            <span role="cell">
              <template v-if="mayChoose(row.group)">
                <ChoiceRadios
                  v-if="row.group.values > 1"
                  :choice="choiceOfGroup(row.group)"
                  :act="row.group.act"
                  :may-merge="row.group.mergeable > 0"
                  :again="again"
                  :label="`All ${wordsOf(row.group)}: what to do`"
                  :disabled="busy"
                  @choose="emit('chooseAll', { group: row.group.id, choice: $event })"
                />
                <span v-if="row.group.chosen > 0 && row.group.chosen < row.group.values" class="quiet">{{
                  someSetBack(row.group)
                }}</span>
              </template>
            </span>
          </div>
          <div v-else-if="row.line === 'more'" class="line" role="row" :style="{ transform: `translateY(${start}px)` }">
            <span role="cell" class="common"
              ><button class="plain link" :disabled="fetching" @click="more(row.group)">
                {{ grouped(row.left) }} more like {{ row.left === row.group.values ? 'that' : 'these' }}
              </button></span
            >
          </div>
          <div
            v-else
            class="line"
            role="row"
            :data-state="row.item.state"
            :style="{ transform: `translateY(${start}px)` }"
          >
            <span role="rowheader" :title="recordOf(row.item)"
              ><RouterLink :to="recordLink(row.item)"
                ><bdi>{{ recordOf(row.item) }}</bdi></RouterLink
              ></span
            >
            <span role="cell"
              ><RouterLink
                :to="{ path: '/changes', query: { save: row.item.saveId } }"
                title="Open the save that made this change"
                >{{ names.fieldName(row.item.fieldId) }}</RouterLink
              ></span
            >
            <span role="cell" :title="row.item.found ?? ''"
              ><ValueText
                :value="row.item.found"
                :masked="row.item.masked"
                :base-type="names.baseType(row.item.fieldId)"
                side="before"
            /></span>
            <span role="cell" :title="row.item.now ?? ''">
              <span v-if="!compared" class="quiet">not looked at yet</span>
              <span v-else-if="row.item.act === 'recreate' && row.item.state === 'clear'" class="quiet">no record</span>
              <ValueText
                v-else-if="row.item.state !== 'blocked'"
                :value="row.item.now"
                :masked="row.item.masked"
                :base-type="names.baseType(row.item.fieldId)"
                side="before"
              /><span v-else class="quiet">not to be had</span></span
            >
            <span role="cell" :title="becomes(row.item) ?? ''">
              <span v-if="row.item.act === 'remove'" class="quiet">goes with it</span>
              <ValueText
                v-else
                :value="becomes(row.item)"
                :masked="row.item.masked"
                :base-type="names.baseType(row.item.fieldId)"
                side="after"
            /></span>
            <span role="cell">
              <template
                v-if="row.item.state === 'follows' && !row.item.masked && becomes(row.item) !== row.item.target"
              >
                <span class="attention">not as before:</span>&nbsp;<ValueText
                  :value="row.item.target"
                  :base-type="names.baseType(row.item.fieldId)"
                  side="before"
                />
              </template>
              <ChoiceRadios
                v-else-if="mayChoose(row.item)"
                :choice="choiceOfItem(row.item)"
                :act="row.item.act"
                :may-merge="row.item.mayMerge"
                :again="again"
                :label="`${names.fieldName(row.item.fieldId)} of ${recordOf(row.item)}: what to do`"
                :disabled="busy"
                @choose="emit('choose', { choices: [{ itemId: row.item.id, choice: $event }] })"
              />
              <template v-else-if="row.item.written">{{ wrote(row.item) }}</template>
              <span v-else-if="row.item.why" class="quiet">{{ row.item.why }}</span>
            </span>
          </div>
        </template>
      </div>
    </div>
  </section>
</template>

<style scoped src="../frame/rows.css"></style>
<style scoped>
.items {
  flex: 1;
  min-width: 0;
  min-height: 0;
  display: flex;
  flex-direction: column;
}
.group {
  background: var(--raised);
}
.common {
  grid-column: 1 / 6;
}
.common b {
  margin-right: 10px;
}
.link {
  color: var(--pine);
}
</style>
