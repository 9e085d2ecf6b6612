<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import { useQuery } from '@tanstack/vue-query'
import { PlanFile, routes, type DryRun, type PlanVersion, type ProblemBody } from '@spoor/contract'
import { counted, isFieldEdit, lockWords } from '@spoor/core'
import * as v from 'valibot'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { addressOf, call, CallProblem, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import SplitPane from '../frame/SplitPane.vue'
import { useSession } from '../session/session.ts'
import { fullTime, shortTime } from '../value/time.ts'
import { useTracking } from './draft.ts'
import { namedLines } from './plan-names.ts'
import TrackingFrame from './TrackingFrame.vue'

const session = useSession()
const router = useRouter()
const tracking = useTracking()
const { source } = tracking
const mayEdit = computed(() => session.may('tracking.edit'))
const sourceId = computed(() => source.value?.id ?? 0)
const { data } = useQuery({
  queryKey: ['plan-versions', sourceId, computed(() => source.value?.planVersion)],
  queryFn: () => call(routes.listVersions, { params: { sourceId: String(sourceId.value) } }),
  enabled: computed(() => sourceId.value > 0),
})
const versions = computed(() => data.value?.versions ?? [])
const stateWords: Record<PlanVersion['state'], string> = {
  installing: 'being put in force',
  'in force': 'in force',
  superseded: '',
  refused: 'was refused by the source; nothing of it was installed',
}

const compared = ref<number[]>([])
const pair = computed(() => [...compared.value].sort((a, b) => a - b))
function toggle(version: number) {
  compared.value = compared.value.includes(version)
    ? compared.value.filter((one) => one !== version)
    : [...compared.value.slice(-1), version]
  dryRun.value = null
}
const { data: difference } = useQuery({
  queryKey: ['plan-difference', sourceId, pair],
  queryFn: () =>
    call(routes.compareVersions, {
      params: { sourceId: String(sourceId.value) },
      query: { from: String(pair.value[0]), to: String(pair.value[1]) },
    }),
  enabled: computed(() => pair.value.length === 2),
})

const dryRun = ref<DryRun | null>(null)
const dryRunTitle = ref('')
const problem = ref<ProblemBody | null>(null)
const leaveOut = ref(false)
const typed = ref<Record<string, string>>({})
const locks = computed(() => [
  ...new Set(
    (dryRun.value?.edits ?? []).flatMap((edit) =>
      isFieldEdit(edit as never) && (edit as { lock?: { until: string | null } | null }).lock
        ? [lockWords((edit as { lock: { until: string | null } }).lock)]
        : [],
    ),
  ),
])
const confirmed = computed(() =>
  locks.value.every((words) => (typed.value[words] ?? '').trim().toLowerCase() === words.toLowerCase()),
)
const mayStage = computed(
  () =>
    dryRun.value !== null &&
    dryRun.value.troubles.length === 0 &&
    dryRun.value.edits.length > 0 &&
    confirmed.value &&
    (dryRun.value.unknown.length === 0 || leaveOut.value),
)

async function show(title: string, work: () => Promise<DryRun>) {
  compared.value = []
  problem.value = null
  leaveOut.value = false
  typed.value = {}
  dryRun.value = null
  dryRunTitle.value = title
  try {
    dryRun.value = await work()
  } catch (error) {
    problem.value = problemOf(error)
  }
}
const returnTo = (version: number) =>
  show(`Returning to plan ${version}`, () =>
    call(routes.returnToVersion, { params: { sourceId: String(sourceId.value), version: String(version) } }),
  )

const mostBytes = 20_000_000
async function readFile(event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  input.value = ''
  if (!file) return
  await show(`The plan in ${file.name}`, async () => {
    const said = (detail: string): never => {
      throw new CallProblem({
        type: 'urn:spoor:problem:bad-request',
        code: 'bad-request',
        title: 'That is not a plan file',
        status: 422,
        detail,
      })
    }
    if (file.size > mostBytes) said('It is larger than any plan. Nothing was staged.')
    let json: unknown
    try {
      json = JSON.parse(await file.text())
    } catch {
      return said('It is not JSON. Nothing was staged; choose a file that Spoor wrote, spoor-plan.json.')
    }
    const parsed = v.safeParse(PlanFile, json)
    if (!parsed.success) {
      const issue = parsed.issues[0]
      return said(`At ${v.getDotPath(issue) ?? 'its beginning'}: ${issue.message}. Nothing was staged.`)
    }
    return await call(routes.readPlanFile, {
      params: { sourceId: String(sourceId.value) },
      body: { file: parsed.output },
    })
  })
}

async function stageIt() {
  const run = dryRun.value
  if (!run || !source.value) return
  tracking.stage(source.value.id, () => run.edits, Object.values(typed.value))
  await router.push('/tracking')
}
const fileAddress = (version: number) =>
  addressOf(routes.writePlanFile, {
    params: { sourceId: sourceId.value as never },
    query: { version: version as never },
  })
</script>

<template>
  <TrackingFrame :tracking="tracking" @connect="router.push('/tracking')">
    <template #tools>
      <label v-if="mayEdit && source" class="file"
        >Read a plan file …<input type="file" accept="application/json,.json" @change="readFile"
      /></label>
    </template>
    <SplitPane v-if="source" name="plans" label="what would change" open :width="420">
      <div class="list">
        <p v-if="versions.length === 0" class="pad quiet">
          No plan was put in force yet. The first one comes from the map: pick fields, and put the draft in force.
        </p>
        <article v-for="version in versions" :key="version.version" :class="{ now: version.state === 'in force' }">
          <Checkbox
            :checked="compared.includes(version.version)"
            :aria-label="`Compare plan ${version.version}`"
            @change="toggle(version.version)"
          />
          <div>
            <h2>
              Plan {{ version.version }}
              <span :class="version.state === 'refused' ? 'attention' : 'quiet'">{{ stateWords[version.state] }}</span>
            </h2>
            <p>
              {{ version.by ?? 'The plan’s own rule' }}, {{ fullTime(version.at)
              }}<template v-if="version.approvedBy">, put in force by {{ version.approvedBy }}</template
              >: “{{ version.reason }}”
            </p>
            <details v-if="version.lines.length > 0">
              <summary>{{ counted(version.lines.length, 'change') }}</summary>
              <ul>
                <li v-for="line in namedLines(source, version.lines)" :key="line.id">
                  <span>{{ line.name }}</span> <span class="quiet">{{ line.words }}</span>
                </li>
              </ul>
            </details>
          </div>
          <span class="acts">
            <a :href="fileAddress(version.version)" download>As a file</a>
            <button
              v-if="version.state === 'superseded' && mayEdit"
              class="plain link"
              @click="returnTo(version.version)"
            >
              Return to it …
            </button>
          </span>
        </article>
      </div>
      <template #pane>
        <div class="pane">
          <template v-if="pair.length === 2">
            <h3>From plan {{ pair[0] }} to plan {{ pair[1] }}</h3>
            <ul v-if="difference && difference.lines.length > 0">
              <li v-for="line in namedLines(source, difference.lines)" :key="line.id">
                <span>{{ line.name }}</span> <span class="quiet">{{ line.words }}</span>
              </li>
            </ul>
            <p v-else-if="difference" class="quiet">They are the same.</p>
          </template>
          <template v-else-if="dryRun">
            <h3>{{ dryRunTitle }}</h3>
            <p v-if="dryRun.source && dryRun.source !== source.name" class="attention">
              It was written from “{{ dryRun.source }}”, not from this source.
            </p>
            <p class="quiet">
              {{
                dryRun.lines.length === 0
                  ? 'It would change nothing.'
                  : `It would change ${counted(dryRun.lines.length, 'thing')}. Nothing is staged yet.`
              }}
            </p>
            <ul>
              <li v-for="line in namedLines(source, dryRun.lines)" :key="line.id">
                <span>{{ line.name }}</span> <span class="quiet">{{ line.words }}</span>
              </li>
            </ul>
            <p v-for="trouble in dryRun.troubles" :key="trouble" class="failure">{{ trouble }}</p>
            <template v-if="dryRun.unknown.length > 0">
              <p class="attention">
                This source does not have {{ dryRun.unknown.slice(0, 6).join(', ')
                }}{{ dryRun.unknown.length > 6 ? ` and ${dryRun.unknown.length - 6} more` : '' }}.
              </p>
              <Checkbox v-model:checked="leaveOut">Leave those out</Checkbox>
            </template>
            <label v-for="words in locks" :key="words" class="lock"
              >It puts locks on. Type <b>{{ words }}</b> to confirm.
              <Input
                :value="typed[words] ?? ''"
                size="small"
                :aria-label="`Type ${words}`"
                @update:value="(now: string) => (typed[words] = now)"
            /></label>
            <p class="buttons">
              <Button type="primary" :disabled="!mayStage" @click="stageIt">Stage this</Button>
              <Button @click="dryRun = null">Leave it</Button>
            </p>
            <p v-if="source.draft.edits.length > 0" class="quiet">
              It takes the place of the draft of {{ counted(source.draft.edits.length, 'change') }} that is staged now{{
                source.draft.at ? ` (${source.draft.by}, ${shortTime(source.draft.at)})` : ''
              }}.
            </p>
          </template>
          <ProblemNote v-else-if="problem" :problem="problem" />
          <p v-else class="quiet">
            Tick two versions to see what differs between them. Each can be taken out as a file, and returned to: what
            that would change is shown first.
          </p>
        </div>
      </template>
    </SplitPane>
  </TrackingFrame>
</template>

<style scoped>
.pad {
  padding: 18px;
}
.file {
  color: var(--pine);
  font-size: 13px;
  cursor: pointer;
}
.file:focus-within {
  outline: 2px solid var(--pine);
}
.file input {
  position: absolute;
  opacity: 0;
  width: 1px;
  height: 1px;
}
.list {
  overflow: auto;
  flex: 1;
  background: var(--panel);
}
article {
  display: grid;
  grid-template-columns: 28px 1fr auto;
  gap: 4px;
  padding: 10px 18px;
  border-bottom: 1px solid var(--line-soft);
  font-size: 13px;
}
article.now {
  background: var(--pine-wash);
}
h2 {
  font-size: 14px;
  font-weight: 650;
}
h2 span {
  font-weight: 400;
}
.acts {
  display: grid;
  gap: 4px;
  justify-items: end;
  align-content: start;
}
.link,
summary {
  color: var(--pine);
  cursor: pointer;
}
li {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  padding: 2px 0;
}
li > :last-child {
  text-align: right;
}
.pane {
  padding: 14px 18px;
  overflow: auto;
  font-size: 13px;
  display: grid;
  gap: 8px;
}
h3 {
  font-size: 15px;
  font-weight: 650;
}
.lock {
  display: grid;
  gap: 4px;
}
.buttons {
  display: flex;
  gap: 8px;
}
</style>
