<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Radio from 'ant-design-vue/es/radio'
import type { CorrectionItem } from '@spoor/contract'
import { counted, groupBy, grouped } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { useRows } from '../frame/rows.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import ValueText from '../value/ValueText.vue'
import { stateOrder, stateWords } from './states.ts'

/** The values of a correction by what became of them, counts first; only those on the screen are drawn. */
export interface Props {
  items: readonly CorrectionItem[]
  draft: boolean
  names: NamedVocabulary
  busy: boolean
}
const props = defineProps<Props>()
const emit = defineEmits<{ choose: [items: CorrectionItem[], choice: 'keep' | 'overwrite'] }>()

type State = CorrectionItem['state']
const only = ref<State | null>(null)
const byState = computed(() => groupBy(props.items, (item) => item.state))
const groups = computed(() => stateOrder.filter((state) => byState.value.has(state)))
watch(groups, (now) => only.value && !now.includes(only.value) && (only.value = null))
const shown = computed(() => (only.value === null ? props.items : byState.value.get(only.value)!))
const scroller = ref<HTMLElement | null>(null)
const { height, visible } = useRows(shown, scroller, async () => {})
const changed = computed(() => byState.value.get('changed-since') ?? [])

const recordOf = (item: CorrectionItem) => `${props.names.typeTitle(item.typeId)} ${item.label}`
/** What a value is to be, or what the source makes of it. */
const becomes = (item: CorrectionItem) =>
  item.state !== 'follows' ? item.target : item.foretold ? item.foretold.value : item.now
</script>

<template>
  <section class="items">
    <div class="groups" role="group" aria-label="Show only">
      <button class="plain" :class="{ on: only === null }" :aria-pressed="only === null" @click="only = null">
        all {{ counted(items.length, 'value') }}
      </button>
      <button
        v-for="state in groups"
        :key="state"
        class="plain"
        :class="{ on: only === state, attention: state === 'changed-since' || state === 'blocked' }"
        :aria-pressed="only === state"
        @click="only = state"
      >
        {{ grouped(byState.get(state)!.length) }} {{ stateWords(state, draft) }}
      </button>
      <template v-if="draft && changed.length > 1">
        <span class="space" />
        <span class="quiet">All that changed since:</span>
        <Button size="small" :disabled="busy" @click="emit('choose', changed, 'keep')">keep</Button>
        <Button size="small" :disabled="busy" @click="emit('choose', changed, 'overwrite')">overwrite</Button>
      </template>
    </div>
    <div
      ref="scroller"
      class="rows"
      role="table"
      aria-label="Values"
      :aria-rowcount="shown.length"
      tabindex="0"
      style="
        --columns: minmax(150px, 1.2fr) minmax(110px, 0.8fr) minmax(90px, 1fr) minmax(90px, 1fr) minmax(90px, 1fr)
          minmax(230px, 1.3fr);
        --least: 860px;
      "
    >
      <div class="line head" role="row">
        <span role="columnheader">Record</span><span role="columnheader">Field</span
        ><span role="columnheader">Value found</span><span role="columnheader">Value now</span
        ><span role="columnheader">{{ draft ? 'Value it will get' : 'Value it got' }}</span
        ><span role="columnheader">State</span>
      </div>
      <div :style="{ height: `${height}px`, position: 'relative' }" role="rowgroup">
        <div
          v-for="{ start, row: item } in visible"
          :key="item.id"
          class="line"
          :style="{ transform: `translateY(${start}px)` }"
          role="row"
          :data-state="item.state"
        >
          <span role="rowheader" :title="recordOf(item)"
            ><bdi>{{ recordOf(item) }}</bdi></span
          >
          <span role="cell"
            ><RouterLink
              :to="{ path: '/changes', query: { save: item.saveId } }"
              title="Open the save that made this change"
              >{{ names.fieldName(item.fieldId) }}</RouterLink
            ></span
          >
          <span role="cell" :title="item.found ?? ''"
            ><ValueText
              :value="item.found"
              :masked="item.masked"
              :base-type="names.baseType(item.fieldId)"
              side="before"
          /></span>
          <span role="cell" :title="item.now ?? ''">
            <ValueText
              v-if="item.state !== 'blocked'"
              :value="item.now"
              :masked="item.masked"
              :base-type="names.baseType(item.fieldId)"
              side="before"
            /><span v-else class="quiet">not to be had</span></span
          >
          <span role="cell" :title="item.target ?? ''">
            <ValueText
              :value="becomes(item)"
              :masked="item.masked"
              :base-type="names.baseType(item.fieldId)"
              side="after"
          /></span>
          <span role="cell" :class="{ attention: item.state === 'changed-since' || item.state === 'blocked' }">
            <template v-if="item.state === 'follows' && !item.masked">
              <span class="quiet">{{ stateWords(item.state, draft) }}</span><span
                v-if="becomes(item) !== item.target"
                class="attention"
                >, not as before:
                <ValueText :value="item.target" :base-type="names.baseType(item.fieldId)" side="before"
              /></span>
            </template>
            <Radio.Group
              v-else-if="draft && item.state === 'changed-since'"
              :value="item.choice"
              :disabled="busy"
              :aria-label="`Changed since: what to do with ${names.fieldName(item.fieldId)} of ${recordOf(item)}`"
              @change="
                (event: { target: { value?: 'keep' | 'overwrite' } }) => emit('choose', [item], event.target.value!)
              "
            >
              <Radio value="keep">keep</Radio>
              <Radio value="overwrite">overwrite</Radio>
            </Radio.Group>
            <template v-if="item.state !== 'follows'"
              >{{ item.written ? 'set back' : stateWords(item.state, draft)
              }}<template v-if="item.why">: {{ item.why }}</template></template
            >
          </span>
        </div>
      </div>
    </div>
  </section>
</template>

<style scoped src="../frame/rows.css"></style>
<style scoped>
.items {
  flex: 1;
  min-height: 0;
  display: flex;
  flex-direction: column;
  border-top: 1px solid var(--line-soft);
}
.groups {
  flex: none;
  display: flex;
  align-items: center;
  gap: 18px;
  min-height: 34px;
  font-size: 13px;
}
.groups .on {
  font-weight: 650;
  border-bottom: 2px solid var(--pine);
}
.space {
  flex: 1;
}
.line :deep(.ant-radio-wrapper) {
  font-size: 13px;
}
</style>
