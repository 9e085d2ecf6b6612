<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { routes, type Alarm, type ProblemBody } from '@spoor/contract'
import { ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { fullTime, withTimes } from '../value/time.ts'

/** Something wrong, with what shows it, until somebody settles it with words. */
const props = defineProps<{ alarm: Alarm }>()
const emit = defineEmits<{ settled: [] }>()
const session = useSession()
const settling = ref(false)
const busy = ref(false)
const why = ref('')
const problem = ref<ProblemBody | null>(null)

function between({ afterSeal, beforeSeal }: Alarm): string {
  if (afterSeal === null && beforeSeal === null) return ''
  if (beforeSeal === null) return `after seal ${afterSeal}, not sealed yet`
  return afterSeal === null ? `under seal ${beforeSeal}` : `between seal ${afterSeal} and seal ${beforeSeal}`
}
async function settle() {
  busy.value = true
  try {
    await call(routes.settleAlarm, { params: { alarmId: String(props.alarm.id) }, body: { why: why.value } })
    problem.value = null
    settling.value = false
    why.value = ''
    emit('settled')
  } catch (caught) {
    problem.value = problemOf(caught)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <article :class="{ over: alarm.overAt !== null || alarm.settled !== null }">
    <p>
      <b
        ><bdi>{{ withTimes(alarm.words) }}</bdi></b
      >{{ ' '
      }}<RouterLink v-if="alarm.saveId" :to="{ path: '/changes', query: { save: alarm.saveId } }"
        >Open the save</RouterLink
      ><RouterLink v-if="alarm.code === 'record-differs'" :to="{ name: 'reconciling' }"
        >See both values, and settle it</RouterLink
      >
    </p>
    <p class="quiet">
      <template v-if="alarm.source">{{ alarm.source }}, </template>found {{ fullTime(alarm.at)
      }}<template v-if="between(alarm)">, {{ between(alarm) }}</template
      ><template v-if="alarm.overAt">; it no longer holds since {{ fullTime(alarm.overAt) }}</template>
    </p>
    <p v-if="alarm.stored" class="mono digest">stored {{ alarm.stored }}</p>
    <p v-if="alarm.expected" class="mono digest">is now {{ alarm.expected }}</p>
    <p v-if="alarm.settled" class="quiet">
      Settled by {{ alarm.settled.by || 'Spoor' }} {{ fullTime(alarm.settled.at) }}: <bdi>{{ alarm.settled.why }}</bdi>
    </p>
    <form v-else-if="settling" @submit.prevent="settle">
      <Input
        v-model:value="why"
        size="small"
        aria-label="What was found out"
        placeholder="What was found out"
        :maxlength="4000"
        autofocus
        @keydown.esc="settling = false"
      />
      <Button size="small" type="primary" html-type="submit" :loading="busy" :disabled="why.trim().length < 3"
        >Settle it</Button
      >
      <Button size="small" @click="settling = false">Leave it</Button>
    </form>
    <button
      v-else-if="session.may('custody.check') && alarm.code !== 'record-differs'"
      class="plain link"
      @click="settling = true"
    >
      Settle …
    </button>
    <ProblemNote v-if="problem" :problem="problem" />
  </article>
</template>

<style scoped>
article {
  border-left: 3px solid var(--fail);
  padding: 2px 0 2px 12px;
  margin: 10px 0;
}
article.over {
  border-left-color: var(--line);
}
p {
  margin: 0 0 2px;
}
button.link {
  color: var(--pine);
}
.digest {
  overflow-wrap: anywhere;
}
form {
  display: flex;
  gap: 8px;
  max-width: 640px;
  margin-top: 4px;
}
</style>
