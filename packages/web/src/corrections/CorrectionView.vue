<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import Progress from 'ant-design-vue/es/progress'
import Radio from 'ant-design-vue/es/radio'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { routes, type Correction, type ProblemBody } from '@spoor/contract'
import { capitalised, counted, listed } from '@spoor/core'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { call, problemOf, type CallInput } from '../api/client.ts'
import PressPopover from '../frame/PressPopover.vue'
import GatherInCase from '../cases/GatherInCase.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { fullTime } from '../value/time.ts'
import CorrectionItems from './CorrectionItems.vue'
import CorrectionTrial from './CorrectionTrial.vue'
import { useRevert } from './revert.ts'

const route = useRoute()
const session = useSession()
const cache = useQueryClient()
const names = useVocabulary(ref({}))
const id = computed(() => String(route.params['correctionId']))
const key = computed(() => ['correction', id.value])
const { data, error, refetch } = useQuery({
  queryKey: key,
  queryFn: () => call(routes.readCorrection, { params: { correctionId: id.value } }),
  refetchInterval: ({ state }) => (isOnItsWay(state.data) ? 700 : false),
})
const correction = computed(() => data.value)
const waiting = ref<'rehearsing' | 'applying' | null>(null)
const work = computed(() => correction.value?.work ?? null)
const busy = computed(() => waiting.value ?? (work.value === null ? null : 'working'))
const share = computed(() =>
  work.value?.total ? Math.min(100, Math.floor((work.value.done / work.value.total) * 100)) : 0,
)
const problem = ref<ProblemBody | null>(null)
const reason = ref('')
const shortestReason = 3

/** Long work on it goes on, or it is applied and its saves are still on their way into the ledger, or it is not known yet. */
function isOnItsWay(one: Correction | undefined): boolean {
  return one?.state === 'applying' || (one?.state === 'applied' && one.savedCount === 0) || (one?.work ?? null) !== null
}

/** What it is about, in a sentence. */
const asked = computed(() => {
  const recordsOf = (act: Correction['groups'][number]['act']) =>
    correction.value!.groups.filter((group) => group.act === act).reduce((sum, group) => sum + group.records, 0)
  const { itemCount, recordCount, writes, repeats } = correction.value!
  if (repeats)
    return `Makes ${counted(itemCount, 'value')} of ${counted(recordCount, 'record')}, as changed on ${repeats.from}, the same on ${repeats.on}.`
  if (recordsOf('recreate') + recordsOf('remove') === 0)
    return `Sets ${counted(itemCount, 'value')} of ${counted(recordCount, 'record')} back.`
  const parts = [
    ...(writes.recreates > 0 ? [`makes ${counted(writes.recreates, 'record')} anew`] : []),
    ...(writes.removes > 0 ? [`removes ${counted(writes.removes, 'record')}`] : []),
  ]
  return `About ${counted(itemCount, 'value')} of ${counted(recordCount, 'record')}${parts.length > 0 ? `: ${listed(parts)}` : ''}.`
})

const isDraft = computed(() => correction.value?.state === 'draft')
const headWords = computed(() => {
  if (isDraft.value) return 'rehearsal, nothing is written yet'
  return correction.value?.state === 'applied' ? 'applied' : 'being applied'
})

async function run(what: 'rehearsing' | 'applying', work: () => Promise<Correction>) {
  waiting.value = what
  problem.value = null
  try {
    cache.setQueryData(key.value, await work())
    void cache.invalidateQueries({ queryKey: ['corrections'] })
    void cache.invalidateQueries({ queryKey: ['waiting'] })
  } catch (caught) {
    problem.value = problemOf(caught)
  } finally {
    waiting.value = null
  }
}

type Choices = Partial<CallInput<typeof routes.rehearseCorrection>['body']>
const rehearse = (choices: Choices = {}) =>
  run('rehearsing', () =>
    call(routes.rehearseCorrection, { params: { correctionId: id.value }, body: { choices: [], ...choices } }),
  )
const isMine = computed(() => correction.value?.draftedById === session.person?.id)
const mayApply = computed(
  () => session.may('corrections.apply') && !(isMine.value && (correction.value?.takesTwo ?? null) !== null),
)
const reasonGiven = computed(() => reason.value.trim() || (correction.value?.proposed?.reason ?? ''))
/** How it is applied: all or none of it, or in slices of records, of which what cannot be written is left. */
const way = ref<'whole' | 'records'>('whole')
const takesRecords = computed(() => way.value === 'records' && mayApply.value)
/** Whether there is something to be written that the source takes, and a reason for it. */
const writes = computed(
  () =>
    correction.value!.writes.values > 0 &&
    ((correction.value!.trial?.refusal ?? null) === null || takesRecords.value) &&
    reasonGiven.value.length >= shortestReason,
)
const about = () => ({ params: { correctionId: id.value } })
const apply = () =>
  run('applying', () =>
    call(routes.applyCorrection, { ...about(), body: { reason: reasonGiven.value, piecemeal: takesRecords.value } }),
  )
const propose = () =>
  run('applying', () => call(routes.proposeCorrection, { ...about(), body: { reason: reasonGiven.value } }))
const stop = async () => {
  await call(routes.stopJob, { params: { jobId: String(work.value!.jobId) } }).catch((caught: unknown) => {
    problem.value = problemOf(caught)
  })
  await refetch()
}
const words = ref('')
const sendBack = () =>
  run('applying', () => call(routes.sendCorrectionBack, { ...about(), body: { words: words.value } }))
/** All that it saved, in one transaction or several. */
const ofIt = computed(() => correction.value!.savedIn.map((save) => `x${save}`).join(','))
/** A correction is a transaction like any other, and is set back like one. */
const { draft: draftUndo, busy: undoing, problem: undoProblem } = useRevert()
const undo = () => draftUndo({ scope: `how=${ofIt.value}` })
</script>

<template>
  <main>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="!correction" class="quiet">Reading …</p>
    <template v-else>
      <header>
        <h1>
          Correction {{ correction.id }}
          <span class="quiet state">{{ headWords }}</span>
        </h1>
        <p class="quiet">
          {{ asked }}
          <template v-if="correction.asked">Asked for: “{{ correction.asked }}” </template>
          <template v-if="correction.along > 0"
            >{{ counted(correction.along, 'record') }} {{ correction.along === 1 ? 'belongs' : 'belong' }} to what was
            deleted and {{ correction.along === 1 ? 'comes' : 'come' }} back along with it.
          </template>
          <template v-if="correction.leftOut > 0"
            >{{ counted(correction.leftOut, 'save') }} in it made or deleted records and
            {{ correction.leftOut === 1 ? 'is' : 'are' }} left as {{ correction.leftOut === 1 ? 'it is' : 'they are' }}:
            not all of {{ correction.leftOut === 1 ? 'it' : 'them' }} was asked for, or another record has the key by
            now.
          </template>
          <template v-if="correction.restOf !== null"
            >It is what
            <RouterLink :to="`/corrections/${correction.restOf}`">correction {{ correction.restOf }}</RouterLink> left.
          </template>
          Drafted by {{ correction.draftedBy }}, {{ fullTime(correction.draftedAt) }}.
        </p>
        <p v-if="correction.takesTwo && !correction.proposed" role="note">
          Somebody other than {{ isMine ? 'you' : correction.draftedBy }} applies it, since {{ correction.takesTwo }}.
        </p>
        <p v-if="isDraft && correction.proposed" role="note">
          {{ correction.proposed.by }} asked for a second person, {{ fullTime(correction.proposed.at) }}, because “<bdi
            >{{ correction.proposed.reason }}</bdi
          >”. It waits under Today of everybody else who may apply it.
        </p>
        <p v-if="isDraft && correction.sentBack" class="attention" role="note">
          {{ correction.sentBack.by }} sent it back: “<bdi>{{ correction.sentBack.words }}</bdi
          >”.
        </p>
        <p v-if="correction.state === 'applying'" role="status">
          It is being applied, or the source broke off while it was and is being asked what became of it. Nothing about
          it can be changed until that is known. <button class="plain link" @click="refetch()">Look again</button>
        </p>
        <p v-if="correction.state === 'applied'">
          Applied by {{ correction.appliedBy ?? 'a server that was stopped meanwhile' }},
          {{ correction.appliedAt && fullTime(correction.appliedAt)
          }}<template v-if="correction.reason">, because “{{ correction.reason }}”</template>.
          <RouterLink
            v-for="saveId in correction.savedAs"
            :key="saveId"
            class="save"
            :to="{ path: '/changes', query: { save: saveId } }"
            >Save {{ saveId }}</RouterLink
          >
          <template v-if="correction.savedCount > correction.savedAs.length">
            and
            <RouterLink :to="{ path: '/changes', query: { how: ofIt } }"
              >{{ counted(correction.savedCount - correction.savedAs.length, 'more save') }} in Changes</RouterLink
            ></template
          >
          <RouterLink
            v-if="correction.savedCount > 0 && session.may('packs.make')"
            class="save"
            :to="{ path: '/evidence/making', query: { how: ofIt } }"
            >Evidence …</RouterLink
          >
          <GatherInCase
            v-if="session.may('cases.write')"
            :thing="{ kind: 'correction', correctionId: correction.id }"
          />
          <template v-if="correction.piecemeal && correction.piecemeal.values > 0">
            It was applied record by record: {{ counted(correction.piecemeal.records, 'record') }}
            {{ correction.piecemeal.records === 1 ? 'is' : 'are' }} left as
            {{ correction.piecemeal.records === 1 ? 'it was' : 'they were'
            }}<template v-if="correction.piecemeal.restId !== null"
              >, drafted anew as
              <RouterLink :to="`/corrections/${correction.piecemeal.restId}`"
                >correction {{ correction.piecemeal.restId }}</RouterLink
              ></template
            >.
          </template>
          <span v-if="correction.savedCount === 0" class="quiet">Its saves are on their way into the ledger.</span>
        </p>
      </header>
      <ProblemNote v-if="problem" :problem="problem"
        ><p v-if="problem.code === 'correction-moved'">
          <button class="plain link" @click="rehearse()">Rehearse again</button>
        </p></ProblemNote
      >
      <p v-if="correction.cameToNothing && !problem" class="failure" role="alert">
        It came to nothing: <bdi>{{ correction.cameToNothing }}</bdi>
      </p>
      <p v-if="work" class="work" role="status">
        <span>{{ capitalised(work.doing ?? 'beginning') }} …</span>
        <Progress :percent="share" size="small" aria-label="How far it is" />
        <Button
          v-if="session.may('corrections.draft') || work.askedById === session.person?.id"
          size="small"
          @click="stop"
          >{{ correction.piecemeal ? 'Stop; what is written stays' : 'Stop; leave the source as it is' }}</Button
        >
        <span class="quiet">It goes on when you leave this page.</span>
      </p>
      <ProblemNote v-if="undoProblem" :problem="undoProblem" />
      <div class="body">
        <CorrectionItems
          :correction="correction"
          :names="names"
          :busy="busy !== null"
          @choose="rehearse($event)"
          @choose-all="rehearse({ groups: [$event] })"
        />
        <CorrectionTrial
          :correction="correction"
          :names="names"
          :busy="busy !== null"
          @leave-refused="rehearse({ leaveRefused: true })"
        />
      </div>
      <form v-if="isDraft" class="acts" @submit.prevent="mayApply ? apply() : propose()">
        <template v-if="mayApply || session.may('corrections.draft')">
          <Input
            v-model:value="reason"
            :placeholder="
              correction.proposed?.reason ??
              (correction.repeats ? 'Why? (kept with the change)' : 'Why is this set back? (kept with the change)')
            "
            aria-label="Reason"
            class="reason"
          />
          <Radio.Group v-if="mayApply" v-model:value="way" size="small" class="way" aria-label="How it is applied">
            <Radio value="whole" title="Where one record cannot be written, none is">all or nothing</Radio>
            <Radio
              value="records"
              title="Some records at a time; what the source refuses, or somebody changed meanwhile, is left and drafted anew"
              >record by record</Radio
            >
          </Radio.Group>
          <Button
            v-if="mayApply"
            type="primary"
            html-type="submit"
            :loading="busy === 'applying'"
            :disabled="!writes || busy !== null"
          >
            {{
              correction.writes.values === 0
                ? 'Nothing would be written'
                : `Apply to ${counted(correction.writes.records, 'record')}`
            }}
          </Button>
          <Button
            v-else
            :type="correction.proposed ? 'default' : 'primary'"
            html-type="submit"
            :loading="busy === 'applying'"
            :disabled="!writes || busy !== null"
            >{{ correction.proposed ? 'Ask again' : 'Ask for a second person' }}</Button
          >
        </template>
        <p v-else class="quiet">An administrator or an approver applies it.</p>
        <PressPopover
          v-if="correction.proposed && correction.proposed.byId !== session.person?.id && mayApply"
          title="Send back"
        >
          <form class="back" @submit.prevent="sendBack">
            <Input v-model:value="words" aria-label="What you say to it" placeholder="What you say to it" />
            <Button html-type="submit" size="small" :disabled="words.trim().length < 3 || busy !== null"
              >Send it back to {{ correction.proposed.by }}</Button
            >
          </form>
        </PressPopover>
        <Button :loading="busy === 'rehearsing'" :disabled="busy !== null" @click="rehearse()">Rehearse again</Button>
        <span class="quiet when"
          ><template v-if="takesRecords">what cannot be written is left and drafted anew</template
          ><template v-else-if="correction.trial">rehearsed {{ fullTime(correction.trial.at) }}</template></span
        >
      </form>
      <div v-else-if="correction.savedCount > 0 && session.may('corrections.draft')" class="acts">
        <Button :loading="undoing" @click="undo">Undo this correction</Button>
        <span class="quiet when">drafts and rehearses what puts every value it wrote back; nothing is written yet</span>
      </div>
    </template>
  </main>
</template>

<style scoped>
main {
  flex: 1;
  min-height: 0;
  display: flex;
  flex-direction: column;
  gap: 10px;
  padding: 18px 28px 0;
}
h1 {
  font-size: 20px;
  line-height: 28px;
  font-weight: 650;
}
.state {
  font-size: 14px;
  font-weight: 400;
  margin-left: 8px;
}
.save {
  margin-left: 8px;
}
.body {
  flex: 1;
  min-height: 0;
  display: flex;
  margin: 0 -28px;
  border-top: 1px solid var(--line-soft);
}
.acts {
  flex: none;
  display: flex;
  gap: 10px;
  padding: 10px 28px;
  margin: 0 -28px;
  background: var(--panel);
  border-top: 1px solid var(--line);
  align-items: center;
}
.when {
  font-size: 13px;
}
.reason {
  max-width: 420px;
}
.way {
  flex: none;
}
.way :deep(.ant-radio-wrapper) {
  font-size: 13px;
  margin-inline-end: 6px;
}
.work {
  display: flex;
  align-items: center;
  gap: 12px;
}
.work > :nth-child(2) {
  width: 320px;
  margin: 0;
}
.back {
  display: flex;
  gap: 8px;
  width: 380px;
}
.link {
  color: var(--pine);
  text-decoration: underline;
}
</style>
