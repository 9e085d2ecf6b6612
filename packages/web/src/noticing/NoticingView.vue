<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import InputNumber from 'ant-design-vue/es/input-number'
import Progress from 'ant-design-vue/es/progress'
import Switch from 'ant-design-vue/es/switch'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { routes, type NoticingSettings, type ProblemBody } from '@spoor/contract'
import { counted, grouped, rules, type RuleName } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import PickList from '../frame/PickList.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import StoryItem from '../today/StoryItem.vue'
import { shortTime, zoneChoices } from '../value/time.ts'

/** Every reason for which something stands out: what it notices, its limits and figures, and a try on the past. */
const session = useSession()
const cache = useQueryClient()
const { data, error, refetch } = useQuery({
  queryKey: ['noticing'],
  queryFn: () => call(routes.readNoticing),
  refetchInterval: (query) => (query.state.data?.trial?.running ? 1000 : 30_000),
})
const names = useVocabulary(ref({}))
const mayEdit = computed(() => session.may('noticing.edit'))

type Chosen = Record<RuleName, { on: boolean; parameters: Record<string, number> }>
const zone = ref('')
const chosen = ref<Chosen | null>(null)
function take(settings: NoticingSettings) {
  zone.value = settings.zone
  chosen.value = Object.fromEntries(
    rules.map((rule) => {
      const setting = settings.rules[rule.name]
      const parameters = Object.fromEntries(
        Object.entries(rule.parameters).map(([name, { usual }]) => [name, setting?.parameters[name] ?? usual]),
      )
      return [rule.name, { on: setting?.on ?? true, parameters }]
    }),
  ) as Chosen
}
/** The settings in force, or those that are being tried. */
const standing = computed(() => data.value && (data.value.trial?.settings ?? data.value.settings))
watch(standing, (now, before) => now && JSON.stringify(now) !== JSON.stringify(before) && take(now), {
  immediate: true,
})

/** Only what is not as usual is kept, so that a usual figure may be bettered later. */
const wanted = computed((): NoticingSettings => {
  const kept = rules.flatMap((rule) => {
    const { on, parameters } = chosen.value![rule.name]
    const unusual = Object.fromEntries(
      Object.entries(parameters).filter(([name, figure]) => figure !== rule.parameters[name]!.usual),
    )
    return on && Object.keys(unusual).length === 0 ? [] : [[rule.name, { on, parameters: unusual }] as const]
  })
  return { zone: zone.value, rules: Object.fromEntries(kept) }
})
const same = (one: NoticingSettings, other: NoticingSettings) =>
  one.zone === other.zone &&
  JSON.stringify(Object.entries(one.rules).sort()) === JSON.stringify(Object.entries(other.rules).sort())
const changed = computed(() => Boolean(chosen.value && data.value && !same(wanted.value, data.value.settings)))
const trial = computed(() => data.value?.trial ?? null)
/** Nothing can be changed by whoever may not, and while settings are being tried. */
const fixed = computed(() => !mayEdit.value || trial.value?.running === true)
const tried = computed(() => Boolean(trial.value?.outcome && chosen.value && same(wanted.value, trial.value.settings)))
const perDay = (stories: number, days: number) =>
  stories === 0 || days === 0
    ? ''
    : stories * 2 < days
      ? `, one in ${Math.round(days / stories)} working days`
      : `, ${(stories / days).toFixed(1)} a working day`

const problem = ref<ProblemBody | null>(null)
const said = ref('')
async function doing(work: () => Promise<unknown>, words: string) {
  said.value = ''
  try {
    await work()
    problem.value = null
    said.value = words
  } catch (caught) {
    problem.value = problemOf(caught)
  }
  await refetch()
}
const tryThem = () => doing(() => call(routes.tryNoticing, { body: wanted.value }), '')
const stop = () => doing(() => call(routes.stopNoticingTrial), '')
const keep = () =>
  doing(async () => {
    await call(routes.keepNoticing)
    await cache.invalidateQueries({ queryKey: ['today'] })
  }, 'Kept. Today tells by these settings from now on, of the past too.')
const backToForce = () => data.value && take(data.value.settings)
</script>

<template>
  <div class="view-page">
    <p><RouterLink to="/today">‹ Today</RouterLink></p>
    <h1>How Spoor notices</h1>
    <p class="lead">
      Every save is read once, as it is collected, and compared with what came before it. Nothing is guessed: each
      reason below is a definition, with the figures it uses. What has too little history to be compared with stays
      silent.
    </p>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-if="!data && !error" class="quiet">Loading …</p>
    <template v-if="data && chosen">
      <p class="quiet">
        <template v-if="data.changedAt"
          >Last changed by {{ data.changedBy ?? 'Spoor' }}, {{ shortTime(data.changedAt) }}.</template
        ><template v-else>As Spoor comes; nothing was changed.</template>
      </p>
      <p class="zone">
        Hours and days are those of
        <PickList
          v-if="mayEdit"
          v-model:value="zone"
          size="small"
          show-search
          :options="zoneChoices"
          aria-label="Time zone"
          :dropdown-match-select-width="false"
        />
        <b v-else>{{ zone }}</b>
      </p>
      <section v-for="rule in rules" :key="rule.name" class="rule" :aria-label="rule.title">
        <Switch
          v-model:checked="chosen[rule.name].on"
          size="small"
          :disabled="fixed"
          :aria-label="`${rule.title}: on or off`"
        />
        <div>
          <h2>{{ rule.title }}</h2>
          <p>{{ rule.notices }}</p>
          <p class="quiet">{{ rule.limits }}</p>
          <p v-if="Object.keys(rule.parameters).length > 0" class="figures">
            <label v-for="(parameter, name) in rule.parameters" :key="name">
              <InputNumber
                v-model:value="chosen[rule.name].parameters[name]!"
                size="small"
                :min="parameter.least"
                :max="parameter.most"
                :disabled="fixed || !chosen[rule.name].on"
                :aria-label="`${rule.title}: ${parameter.words}`"
              />
              {{ parameter.words }}
              <span v-if="chosen[rule.name].parameters[name] !== parameter.usual" class="quiet"
                >(usually {{ grouped(parameter.usual) }})</span
              >
            </label>
          </p>
        </div>
      </section>
      <section v-if="mayEdit" class="trial" aria-label="Try on the past">
        <ProblemNote v-if="problem" :problem="problem" />
        <p v-if="said" role="status">{{ said }}</p>
        <template v-if="trial?.running">
          <p>Reading {{ grouped(trial.done) }} of {{ grouped(trial.total) }} saves with these settings …</p>
          <Progress
            :percent="trial.total === 0 ? 0 : Math.floor((trial.done / trial.total) * 100)"
            aria-label="Saves read"
          />
          <Button @click="stop">Stop</Button>
        </template>
        <template v-else>
          <p v-if="trial?.trouble" class="attention">{{ trial.trouble }}</p>
          <div v-if="trial?.outcome && tried" class="outcome">
            <p>
              <b
                >Over the whole past, {{ counted(trial.outcome.after, 'thing') }} would stand out instead of
                {{ grouped(trial.outcome.before) }}{{ perDay(trial.outcome.after, trial.outcome.workdays) }}.</b
              >
              {{ counted(trial.outcome.gone, 'thing') }} would no longer be told,
              {{ grouped(trial.outcome.added) }} would be new, {{ grouped(trial.outcome.changed) }} would be told
              otherwise.
            </p>
            <details v-if="trial.outcome.gone > 0">
              <summary>No longer told</summary>
              <StoryItem
                v-for="story in trial.outcome.goneExamples"
                :key="story.id"
                :story="story"
                :names="names"
                plain
              />
            </details>
            <details v-if="trial.outcome.changed > 0">
              <summary>Told otherwise</summary>
              <StoryItem
                v-for="story in trial.outcome.changedExamples"
                :key="story.id"
                :story="story"
                :names="names"
                plain
              />
            </details>
            <details v-if="trial.outcome.added > 0">
              <summary>New</summary>
              <StoryItem
                v-for="story in trial.outcome.addedExamples"
                :key="story.id"
                :story="story"
                :names="names"
                plain
              />
            </details>
          </div>
          <span class="ways">
            <Button v-if="tried" type="primary" @click="keep">Keep these settings</Button>
            <Button v-else type="primary" :disabled="!changed" @click="tryThem">Try on the past</Button>
            <Button v-if="changed" @click="backToForce">Back to what is in force</Button>
            <span v-if="!changed" class="quiet"
              >Change something above; it is tried on the past before it is kept.</span
            >
          </span>
        </template>
      </section>
    </template>
  </div>
</template>

<style scoped>
.view-page {
  flex: 1;
  min-height: 0;
  overflow: auto;
  padding: 14px 56px 0;
}
.view-page > * {
  max-width: 860px;
}
h1 {
  font-size: 24px;
  line-height: 32px;
  font-weight: 650;
}
h2 {
  font-size: 15px;
  font-weight: 650;
}
.lead {
  margin: 4px 0;
}
.zone {
  margin: 8px 0 12px;
}
.rule {
  display: grid;
  grid-template-columns: 46px 1fr;
  justify-items: start;
  padding: 10px 0;
  border-top: 1px solid var(--line);
  font-size: 13px;
}
.figures {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 22px;
  margin-top: 6px;
}
.figures label {
  display: flex;
  gap: 7px;
  align-items: center;
}
.figures :deep(.ant-input-number) {
  width: 92px;
}
.trial {
  position: sticky;
  bottom: 0;
  background: var(--panel);
  border-top: 2px solid var(--pine);
  padding: 10px 16px;
  display: grid;
  gap: 8px;
  justify-items: start;
  max-height: 55vh;
  overflow: auto;
  font-size: 13px;
}
.trial > :deep(.ant-progress) {
  width: 100%;
}
.outcome {
  display: grid;
  gap: 4px;
  width: 100%;
}
summary {
  cursor: pointer;
}
.ways {
  display: flex;
  gap: 10px;
  align-items: center;
}
</style>
