<script setup lang="ts">
import Input from 'ant-design-vue/es/input'
import type { SourceMap, TrackedField, TrackedType } from '@spoor/contract'
import { capitalised, counted } from '@spoor/core'
import { computed, ref } from 'vue'
import { problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import SplitPane from '../frame/SplitPane.vue'
import { useSession } from '../session/session.ts'
import { dayOnly, shortTime } from '../value/time.ts'
import { stagedKeep, useTracking, withKeep } from './draft.ts'
import DraftPane from './DraftPane.vue'
import FieldTile from './FieldTile.vue'
import LevelSwitch from './LevelSwitch.vue'

const session = useSession()
const { sources, error, isPending, refetch, problem, busy, stage, putInForce } = useTracking()
const mayEdit = computed(() => session.may('tracking.edit'))
const find = ref('')
const source = computed(() => sources.value[0])

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
const areas = computed(() => {
  const groups = new Map<string, TrackedType[]>()
  for (const type of shown.value) groups.set(type.area, [...(groups.get(type.area) ?? []), type])
  return [...groups].map(([name, types]) => ({ name, types }))
})

const isOn = (field: TrackedField) => source.value !== undefined && stagedKeep(source.value, field) !== 'off'
const onCount = (types: readonly TrackedType[]) => types.reduce((sum, type) => sum + type.fields.filter(isOn).length, 0)
const fieldCount = (types: readonly TrackedType[]) => types.reduce((sum, type) => sum + type.fields.length, 0)
const trackable = (types: readonly TrackedType[]) => types.filter((type) => type.obstacle === null)
const trackedNow = computed(() =>
  (source.value?.types ?? []).reduce(
    (sum, type) => sum + type.fields.filter((field) => field.keep !== 'off').length,
    0,
  ),
)
const since = (type: TrackedType) => type.fields.map((field) => field.trackedSince).filter((at) => at !== null).sort()[0] // prettier-ignore

function toggle(of: SourceMap, type: TrackedType, field: TrackedField) {
  stage(of.id, (now) => withKeep(now, type, [field], stagedKeep(now, field) === 'off' ? 'values' : 'off'))
}

function setAll(of: SourceMap, types: readonly TrackedType[], on: boolean) {
  stage(
    of.id,
    (now) =>
      trackable(types).reduce((edited, type) => {
        // A field that is kept already stays kept the way it is.
        const fields = type.fields.filter((field) => (stagedKeep(edited, field) === 'off') === on)
        return { ...edited, draft: { ...edited.draft, edits: withKeep(edited, type, fields, on ? 'values' : 'off') } }
      }, now).draft.edits,
  )
}
</script>

<template>
  <div v-if="error" class="pad">
    <ProblemNote :problem="problemOf(error)"
      ><button class="plain link" @click="refetch()">Try again</button></ProblemNote
    >
  </div>
  <p v-else-if="isPending" class="pad quiet">Looking at the source …</p>
  <p v-else-if="!source" class="pad">
    No source is connected. Set SPOOR_SOURCE_URL to the address of your business database and start Spoor again.
  </p>
  <template v-else>
    <div class="bar">
      <h1>{{ source.name }}</h1>
      <span>
        {{ trackedNow }} of {{ counted(fieldCount(source.types), 'field') }} tracked<template
          v-if="source.inForceSince"
        >
          · plan {{ source.planVersion }} in force since {{ shortTime(source.inForceSince) }}</template
        ><template v-else> · no plan in force yet</template>
      </span>
      <Input
        v-model:value="find"
        class="find"
        size="small"
        placeholder="Find a field"
        aria-label="Find a field"
        allow-clear
      />
    </div>
    <p v-if="source.obstacle" class="pad failure" role="alert">
      <b>{{ source.obstacle.words }}</b> What you see is from the last look.
      <button class="plain link" @click="refetch()">Look again</button>
    </p>
    <SplitPane name="tracking" label="the draft" open :width="372">
      <div class="map">
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
          <div v-for="type in area.types" :key="type.id" class="type">
            <span class="name" :title="[`${type.schema}.${type.table}`, type.comment].filter(Boolean).join('\n')">
              <LevelSwitch
                :on="onCount([type])"
                :of="type.obstacle ? 0 : type.fields.length"
                :name="type.name"
                :disabled="!mayEdit"
                @set="(on) => setAll(source!, [type], on)"
              />
              {{ capitalised(type.name) }}
            </span>
            <span class="count">{{ since(type) ? `since ${dayOnly(since(type)!)}` : 'not tracked' }}</span>
            <div class="tiles">
              <div v-if="type.obstacle" class="obstacle attention">
                {{ type.obstacle.words }}
                <template v-if="type.obstacle.remedy"
                  >This would mend it: <code class="mono">{{ type.obstacle.remedy }}</code></template
                >
              </div>
              <FieldTile
                v-for="field in type.fields"
                :key="field.id"
                :field="field"
                :keep="stagedKeep(source, field)"
                :disabled="!mayEdit || type.obstacle !== null"
                @toggle="toggle(source!, type, field)"
              />
            </div>
          </div>
        </section>
        <p v-if="areas.length === 0" class="pad quiet">
          {{ find ? 'No field has this in its name.' : 'The source has no tables that Spoor can see.' }}
        </p>
      </div>
      <template #pane>
        <DraftPane
          :source="source"
          :busy="busy"
          :problem="problem"
          :may-edit="mayEdit"
          @force="(reason) => putInForce(source!, reason)"
          @discard="stage(source!.id, () => [])"
          @dismiss="problem = null"
        />
      </template>
    </SplitPane>
  </template>
</template>

<style scoped>
.pad {
  padding: 18px;
}
.bar {
  flex: none;
  background: var(--panel);
  border-bottom: 1px solid var(--line);
  padding: 9px 18px;
  display: flex;
  align-items: center;
  gap: 18px;
  font-size: 15px;
}
h1 {
  font-size: 15px;
  line-height: 22px;
  font-weight: 650;
}
.find {
  margin-left: auto;
  width: 190px;
}
.map {
  flex: 1;
  overflow: auto;
  min-height: 0;
  background: var(--panel);
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
  font-size: 12.5px;
}
.type {
  display: grid;
  grid-template-columns: 190px 130px 1fr;
  align-items: center;
  min-height: 38px;
  padding: 5px 18px;
  border-bottom: 1px solid var(--line-soft);
}
.name {
  display: flex;
  align-items: center;
  gap: 8px;
}
.tiles {
  display: flex;
  flex-wrap: wrap;
  gap: 5px 4px;
}
.obstacle {
  flex-basis: 100%;
  font-size: 13px;
}
code {
  user-select: all;
  color: var(--ink);
}
.link {
  color: var(--pine);
  text-decoration: underline;
}
</style>
