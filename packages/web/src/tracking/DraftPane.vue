<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { routes, type ProblemBody, type SourceMap } from '@spoor/contract'
import { capitalised, counted, isFieldEdit, type KeepOrOff } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { shortTime } from '../value/time.ts'

/** What is staged, in words, and putting it in force. */
export interface Props {
  source: SourceMap
  busy: boolean
  problem: ProblemBody | null
  mayEdit: boolean
}
const props = defineProps<Props>()
const emit = defineEmits<{ force: [reason: string]; discard: []; dismiss: [] }>()

const reason = ref('')
const sql = ref<string | null>(null)
const sqlProblem = ref<ProblemBody | null>(null)
const words: Record<KeepOrOff, string> = { values: 'values', fingerprint: 'fingerprint', off: 'off' }

const lines = computed(() =>
  props.source.draft.edits.flatMap((edit) => {
    const type = props.source.types.find((one) => one.id === edit.typeId)
    if (!type) return []
    if (!isFieldEdit(edit)) {
      const rules = [
        edit.reason && `reason ${edit.reason}`,
        edit.newColumns && `new columns ${edit.newColumns === 'track' ? 'tracked at once' : 'wait'}`,
      ]
      return [{ id: `rule ${edit.typeId}`, name: capitalised(type.name), change: rules.filter(Boolean).join(', ') }]
    }
    const field = type.fields.find((one) => one.id === edit.fieldId)
    return field
      ? [
          {
            id: String(edit.fieldId),
            name: `${capitalised(type.name)} · ${field.name}`,
            change: `${words[field.keep]} → ${words[edit.keep]}`,
          },
        ]
      : []
  }),
)
watch(() => props.source.draft.revision, () => (sql.value = null)) // prettier-ignore
watch(() => props.source.planVersion, () => (reason.value = '')) // prettier-ignore

async function showSql() {
  sqlProblem.value = null
  if (sql.value !== null) {
    sql.value = null
    return
  }
  try {
    sql.value = (await call(routes.previewDraft, { params: { sourceId: String(props.source.id) } })).sql
  } catch (error) {
    sqlProblem.value = problemOf(error)
  }
}
</script>

<template>
  <div class="block legend">
    <h3>How a field is kept</h3>
    <p><span class="tile values">tracked</span> values, before and after</p>
    <p><span class="tile fingerprint">tracked</span> fingerprint: that it changed, not to what</p>
    <p><span class="tile">not</span> not tracked</p>
    <p><span class="tile staged">any</span> staged, not yet in force</p>
  </div>
  <div class="block grow">
    <template v-if="lines.length > 0">
      <h3>Draft for plan {{ source.planVersion + 1 }} · {{ counted(lines.length, 'change') }}</h3>
      <p v-if="source.draft.by && source.draft.at" class="quiet">
        Last staged by {{ source.draft.by }}, {{ shortTime(source.draft.at) }}.
      </p>
      <ul>
        <li v-for="line in lines" :key="line.id">
          <span>{{ line.name }}</span> <span class="quiet">{{ line.change }}</span>
        </li>
      </ul>
    </template>
    <template v-else>
      <h3>Nothing is staged</h3>
      <p class="quiet">
        Press a field to stage a change. Nothing changes in the source until the draft is put in force.
      </p>
    </template>
    <ProblemNote v-if="problem" :problem="problem"
      ><button class="plain link" @click="emit('dismiss')">Hide this</button></ProblemNote
    >
    <ProblemNote v-if="sqlProblem" :problem="sqlProblem" />
    <pre v-if="sql !== null" class="mono sql" tabindex="0" aria-label="SQL of the draft">{{ sql }}</pre>
  </div>
  <form v-if="lines.length > 0 && mayEdit" class="foot" @submit.prevent="emit('force', reason)">
    <Input v-model:value="reason" placeholder="Why is this changed? (kept with the plan)" aria-label="Reason" />
    <div class="buttons">
      <Button type="primary" html-type="submit" :loading="busy" :disabled="reason.trim().length < 3"
        >Put in force</Button
      >
      <Button @click="showSql">{{ sql === null ? 'Show the SQL' : 'Hide the SQL' }}</Button>
      <Button :disabled="busy" @click="emit('discard')">Discard</Button>
    </div>
  </form>
</template>

<style scoped>
.block {
  padding: 13px 18px;
  border-bottom: 1px solid var(--line);
  font-size: 13px;
}
.legend p {
  margin-top: 6px;
}
.grow {
  flex: 1;
  overflow: auto;
  min-height: 0;
  background: var(--ground);
}
h3 {
  font-size: 15px;
  font-weight: 650;
  margin-bottom: 4px;
}
li {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  padding: 2px 0;
}
.tile {
  display: inline-block;
  padding: 0 8px;
  border: 1.2px solid var(--faint);
  border-radius: 3px;
  color: var(--soft);
  margin-right: 6px;
}
.tile.values {
  background: var(--moss-wash);
  border-color: var(--moss);
  color: var(--ink);
}
.tile.fingerprint {
  border-color: var(--moss);
  color: var(--ink);
  background: linear-gradient(135deg, var(--moss-wash) 0 50%, var(--panel) 50%);
}
.tile.staged {
  outline: 2px solid var(--pine);
  outline-offset: 1px;
}
.sql {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font-size: 11.5px;
  line-height: 16px;
  background: var(--panel);
  padding: 8px;
  margin: 10px 0 0;
}
.foot {
  flex: none;
  padding: 13px 18px;
  border-top: 1px solid var(--line);
}
.buttons {
  display: flex;
  gap: 8px;
  margin-top: 9px;
}
.link {
  color: var(--pine);
  text-decoration: underline;
  display: block;
}
</style>
