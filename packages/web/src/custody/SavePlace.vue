<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { grouped, type ProofStep } from '@spoor/core'
import { onScopeDispose, ref, toRef, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { fullTime } from '../value/time.ts'

/** The place of an opened save in the ledger, and the check of it in this browser. */
export interface Props {
  saveId: string
}
const props = defineProps<Props>()
const { data, error } = useQuery({
  queryKey: ['place', toRef(props, 'saveId')],
  queryFn: () => call(routes.readPlace, { params: { saveId: props.saveId } }),
  // A seal comes within the minute.
  refetchInterval: (query) => (query.state.data?.seal || query.state.data?.index === null ? false : 10_000),
})
const steps = ref<ProofStep[] | null>(null)
const failed = ref(false)
let worker: Worker | undefined
function check() {
  worker?.terminate()
  worker = new Worker(new URL('./proving.worker.ts', import.meta.url), { type: 'module' })
  worker.onmessage = (event: MessageEvent<ProofStep[]>) => (steps.value = event.data)
  worker.onerror = () => (failed.value = true)
  worker.postMessage(JSON.parse(JSON.stringify(data.value)))
}
watch(
  () => props.saveId,
  () => (steps.value = null),
)
onScopeDispose(() => worker?.terminate())
</script>

<template>
  <section class="place" aria-label="Its place in the ledger">
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <template v-if="data">
      <p v-if="data.index === null" class="quiet">
        From before the ledger was sealed: nothing proves it but its place.
      </p>
      <p v-else>
        Leaf {{ grouped(data.index)
        }}<template v-if="data.seal"
          >, under <RouterLink to="/custody">seal {{ grouped(data.seal.number) }}</RouterLink> of
          {{ fullTime(data.seal.at) }}</template
        ><template v-else>, to be sealed within the minute</template>.
        <button class="plain act" @click="check">Check it here</button>
      </p>
      <p v-if="failed" class="failure">The check could not be run in this browser.</p>
      <ul v-if="steps" role="status">
        <li v-for="step in steps" :key="step.rule + step.words" :class="{ failure: step.outcome === 'failed' }">
          <b>{{ { passed: 'Holds', failed: 'Does not hold', skipped: 'Not checked' }[step.outcome] }}</b>
          {{ step.words }} <span class="quiet">rule {{ step.rule }}</span>
        </li>
      </ul>
      <details>
        <summary class="quiet">Leaf and proof</summary>
        <p class="mono hash">{{ data.leaf }}</p>
        <p v-for="hash in data.proof" :key="hash" class="mono hash quiet">{{ hash }}</p>
      </details>
    </template>
  </section>
</template>

<style scoped>
.place {
  padding: 9px 18px;
  border-top: 1px solid var(--line-soft);
  font-size: 13px;
  display: grid;
  gap: 4px;
}
.act {
  color: var(--pine);
}
summary {
  cursor: pointer;
}
.hash {
  overflow-wrap: anywhere;
  font-size: 11.5px;
}
</style>
