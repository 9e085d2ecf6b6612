<script setup lang="ts">
import Input from 'ant-design-vue/es/input'
import type { SourceMap, TrackedField, TrackedType } from '@spoor/contract'
import { capitalised, counted, grouped } from '@spoor/core'
import { useEventListener } from '@vueuse/core'
import { computed, nextTick, ref, watch } from 'vue'
import SplitPane from '../frame/SplitPane.vue'
import { useSession } from '../session/session.ts'
import { dayOnly } from '../value/time.ts'
import BlindSpots from './BlindSpots.vue'
import { stagedField, stagedIds, useTracking, withWish } from './draft.ts'
import DraftPane from './DraftPane.vue'
import FieldTile from './FieldTile.vue'
import LevelSwitch from './LevelSwitch.vue'
import PickedPane from './PickedPane.vue'
import { useSelection, type PickedField } from './selection.ts'
import SourcePane from './SourcePane.vue'
import TrackingFrame from './TrackingFrame.vue'
import TypePane from './TypePane.vue'

const session = useSession()
const tracking = useTracking()
const { source, stage, problem } = tracking
const mayEdit = computed(() => session.may('tracking.edit'))
const find = ref('')
/** What the pane beside the map is about, when it is not the picked fields. */
const about = ref<{ type: number } | 'source' | null>(null)

const shown = computed(() => {
  const wanted = find.value.trim().toLowerCase()
  const types = source.value?.types ?? []
  if (wanted === '') return types
  return types
    .map((type) =>
      type.name.toLowerCase().includes(wanted)
        ? type
        : {
            ...type,
            fields: type.fields.filter((field) => `${field.name} ${field.column}`.toLowerCase().includes(wanted)),
          },
    )
    .filter((type) => type.fields.length > 0)
})
/** Lines stand under their parent, where both are in the same area. */
const areas = computed(() => {
  const groups = new Map<string, TrackedType[]>()
  for (const type of shown.value) groups.set(type.area, [...(groups.get(type.area) ?? []), type])
  return [...groups].map(([name, types]) => {
    const inside = new Set(types.map((type) => type.id))
    const isLine = (type: TrackedType) => type.parent !== null && inside.has(type.parent.typeId)
    const under = (parent: TrackedType): TrackedType[] => [
      parent,
      ...types.filter((type) => isLine(type) && type.parent!.typeId === parent.id).flatMap(under),
    ]
    return {
      name,
      types: types.filter((type) => !isLine(type)).flatMap(under),
      lines: new Set(types.filter(isLine).map((type) => type.id)),
    }
  })
})
const order = computed<PickedField[]>(() =>
  areas.value.flatMap((area) =>
    area.types
      .filter((type) => type.obstacle === null)
      .flatMap((type) => type.fields.map((field) => ({ type, field }))),
  ),
)
const selection = useSelection(order)
const { ids, picked, focusId } = selection
const staged = computed(() => (source.value ? stagedIds(source.value) : new Set<number>()))
const shownField = (field: TrackedField) => (staged.value.has(field.id) ? stagedField(source.value!, field) : field)
const aboutType = computed(() => {
  const open = about.value
  return typeof open === 'object' && open !== null
    ? source.value?.types.find((type) => type.id === open.type)
    : undefined
})
watch(ids, (now) => now.size > 0 && (about.value = null))

const isOn = (field: TrackedField) => shownField(field).keep !== 'off'
const onCount = (types: readonly TrackedType[]) => types.reduce((sum, type) => sum + type.fields.filter(isOn).length, 0)
const fieldCount = (types: readonly TrackedType[]) => types.reduce((sum, type) => sum + type.fields.length, 0)
const trackable = (types: readonly TrackedType[]) => types.filter((type) => type.obstacle === null)
const since = (type: TrackedType) =>
  type.fields
    .map((field) => field.trackedSince)
    .filter((at) => at !== null)
    .sort()[0]

function pace(type: TrackedType): string {
  if (type.savesPerDay !== null)
    return type.savesPerDay >= 1 ? `${grouped(Math.round(type.savesPerDay))} saves a day` : 'under 1 save a day'
  if (type.unseenPerDay !== null && type.unseenPerDay >= 1)
    return `${grouped(Math.round(type.unseenPerDay))} a day unseen`
  return ''
}

function setAll(of: SourceMap, types: readonly TrackedType[], on: boolean) {
  stage(of.id, (now) =>
    trackable(types).reduce((edits, type) => {
      // A field that is kept already stays kept the way it is, and a locked one on.
      const fields = type.fields.filter(
        (field) => (stagedField(now, field).keep === 'off') === on && (on || !field.lock),
      )
      return withWish(edits, type.id, fields, { keep: on ? 'values' : 'off' })
    }, now.draft.edits),
  )
}

function setPicked(keep: 'values' | 'fingerprint' | 'off') {
  const of = source.value
  if (!of || !mayEdit.value) return
  const byType = new Map<number, TrackedField[]>()
  for (const { type, field } of picked.value) byType.set(type.id, [...(byType.get(type.id) ?? []), field])
  stage(of.id, (now) =>
    [...byType].reduce((edits, [typeId, fields]) => withWish(edits, typeId, fields, { keep }), now.draft.edits),
  )
}

async function focusTile(fieldId: number | null) {
  if (fieldId === null) return
  await nextTick()
  document.querySelector<HTMLElement>(`[data-field="${fieldId}"]`)?.focus()
}

useEventListener('keydown', (event) => {
  const target = event.target as HTMLElement
  if (!target.closest('.map') || event.altKey) return
  const here = order.value.find(({ field }) => field.id === focusId.value)
  const acts: Record<string, () => void> = {
    ArrowRight: () => void focusTile(selection.move(1, event.shiftKey)),
    ArrowLeft: () => void focusTile(selection.move(-1, event.shiftKey)),
    ArrowDown: () => void focusTile(selection.moveType(1, event.shiftKey)),
    ArrowUp: () => void focusTile(selection.moveType(-1, event.shiftKey)),
    Escape: () => selection.none(),
    v: () => setPicked('values'),
    f: () => setPicked('fingerprint'),
    o: () => setPicked('off'),
    ' ': () => setPicked(picked.value.every(({ field }) => isOn(field)) ? 'off' : 'values'),
  }
  if ((event.ctrlKey || event.metaKey) && event.key === 'a' && here) {
    selection.all(here.type)
    event.preventDefault()
  } else if (!event.ctrlKey && !event.metaKey && target.closest('[data-field]') && acts[event.key]) {
    event.preventDefault()
    acts[event.key]!()
  }
})
const tabbable = computed(() => focusId.value ?? order.value[0]?.field.id)
</script>

<template>
  <TrackingFrame :tracking="tracking" @connect="about = 'source'">
    <template #tools>
      <Input
        v-model:value="find"
        class="find"
        size="small"
        placeholder="Find a field"
        aria-label="Find a field"
        allow-clear
      />
    </template>
    <SplitPane v-if="source" name="tracking" label="the draft" open :width="372">
      <div class="map" @pointerdown="selection.onPointerDown" @pointerover="selection.onPointerOver">
        <section v-for="area in areas" :key="area.name" :aria-label="area.name">
          <h2>
            <LevelSwitch
              :on="onCount(area.types)"
              :of="fieldCount(trackable(area.types))"
              :name="area.name"
              :disabled="!mayEdit"
              @set="(on) => setAll(source!, area.types, on)"
            />
            {{ area.name }}
            <span class="count"
              >{{ counted(area.types.length, 'type') }}, {{ onCount(area.types) }} of
              {{ counted(fieldCount(area.types), 'field') }}</span
            >
          </h2>
          <div v-for="type in area.types" :key="type.id" class="type" :class="{ on: aboutType?.id === type.id }">
            <span class="name" :class="{ line: area.lines.has(type.id) }">
              <LevelSwitch
                :on="onCount([type])"
                :of="type.obstacle ? 0 : type.fields.length"
                :name="type.name"
                :disabled="!mayEdit"
                @set="(on) => setAll(source!, [type], on)"
              />
              <button
                class="plain title"
                :title="[`${type.schema}.${type.table}`, type.comment].filter(Boolean).join('\n')"
                @click="((about = { type: type.id }), selection.none())"
              >
                {{ area.lines.has(type.id) ? '↳ ' : '' }}{{ capitalised(type.name) }}
              </button>
            </span>
            <span class="count"
              >{{ since(type) ? `since ${dayOnly(since(type)!)}` : 'not tracked' }}<br />{{ pace(type) }}</span
            >
            <div class="tiles" role="listbox" aria-multiselectable="true" :aria-label="`Fields of ${type.name}`">
              <div v-if="type.obstacle" class="obstacle attention" role="presentation">
                {{ type.obstacle.words }}
                <template v-if="type.obstacle.remedy"
                  >This would mend it: <code class="mono">{{ type.obstacle.remedy }}</code></template
                >
              </div>
              <FieldTile
                v-for="field in type.fields"
                :key="field.id"
                :field="field"
                :staged="shownField(field)"
                :is-staged="staged.has(field.id)"
                :picked="ids.has(field.id)"
                :type-unseen="type.savesPerDay === null && (type.unseenPerDay ?? 0) >= 1"
                :disabled="type.obstacle !== null"
                :tabbable="field.id === tabbable"
              />
            </div>
          </div>
        </section>
        <p v-if="areas.length === 0" class="pad quiet">
          {{ find ? 'No field has this in its name.' : 'The source has no tables that Spoor can see.' }}
        </p>
      </div>
      <template #pane>
        <div class="pane">
          <SourcePane v-if="about === 'source'" :tracking="tracking" @close="about = null" />
          <TypePane
            v-else-if="aboutType"
            :key="aboutType.id"
            :source="source"
            :type="aboutType"
            :may-edit="mayEdit"
            :stage="stage"
            @described="tracking.refetch()"
            @close="about = null"
          />
          <PickedPane
            v-else-if="picked.length > 0"
            :source="source"
            :picked="picked"
            :may-edit="mayEdit"
            :stage="stage"
            @keep="setPicked"
            @none="selection.none()"
            @described="tracking.refetch()"
          />
          <BlindSpots v-else :source="source" @open="(typeId) => (about = { type: typeId })" />
          <DraftPane :tracking="tracking" :source="source" :may-edit="mayEdit" :problem="problem" />
        </div>
      </template>
    </SplitPane>
    <div v-else-if="about === 'source'" class="alone"><SourcePane :tracking="tracking" @close="about = null" /></div>
  </TrackingFrame>
</template>

<style scoped>
.pad {
  padding: 18px;
}
.find {
  width: 190px;
}
.map {
  flex: 1;
  overflow: auto;
  min-height: 0;
  background: var(--panel);
}
.pane {
  flex: 1;
  min-height: 0;
  display: flex;
  flex-direction: column;
}
.alone {
  max-width: 560px;
}
h2 {
  display: flex;
  align-items: center;
  gap: 12px;
  padding: 9px 18px 5px;
  font-weight: 650;
  font-size: 14px;
  line-height: 20px;
  background: var(--raised);
  border-bottom: 1px solid var(--line-soft);
}
.count {
  font-weight: 400;
  color: var(--soft);
  font-size: 12px;
  line-height: 16px;
}
.type {
  display: grid;
  grid-template-columns: 200px 116px 1fr;
  align-items: center;
  min-height: 40px;
  padding: 5px 18px;
  border-bottom: 1px solid var(--line-soft);
  /* Thousands of fields: what is out of sight is neither laid out nor painted. */
  content-visibility: auto;
  contain-intrinsic-size: auto 42px;
}
.type.on {
  background: var(--pine-wash);
}
.name {
  display: flex;
  align-items: center;
  gap: 8px;
}
.name.line {
  padding-left: 12px;
}
.title {
  text-align: left;
  line-height: 17px;
}
.title:hover {
  text-decoration: underline;
}
.tiles {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 5px;
  padding: 1px;
  touch-action: none;
}
.obstacle {
  flex-basis: 100%;
  font-size: 13px;
}
code {
  user-select: all;
  color: var(--ink);
}
</style>
