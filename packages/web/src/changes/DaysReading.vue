<script setup lang="ts">
import { routes, type Group } from '@spoor/contract'
import { counted, scopeEntries, withPart, type Scope } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import ActorGlyph from '../value/ActorGlyph.vue'
import { dayText, readerZone } from '../value/time.ts'
import type { ProblemBody } from '@spoor/contract'

/** The scope by day, then person, then record type, opened level by level; each count leads to what it counts. */
export interface Props {
  scope: Scope
  text: string
  version: number
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ show: [scope: Scope] }>()

interface Level extends Group {
  path: string
  depth: 0 | 1 | 2
  scope: Scope
}
const by = ['day', 'actor', 'type'] as const
const days = ref<Level[]>([])
const below = ref(new Map<string, Level[]>())
const open = ref<ReadonlySet<string>>(new Set())
const more = ref(false)
const loading = ref(true)
const problem = ref<ProblemBody | null>(null)

function inside(scope: Scope, depth: number, key: string): Scope {
  if (depth === 0)
    return withPart(scope, {
      part: 'when',
      exclude: false,
      span: { span: 'days', from: key, to: key, zone: readerZone },
      effective: false,
    })
  if (depth === 1) return withPart(scope, { part: 'who', exclude: false, actors: [Number(key)], kinds: [] })
  return withPart(scope, { part: 'what', exclude: false, types: [Number(key)], fields: [] })
}
/** A scope that names fields cannot be narrowed to a type without losing them; its types are shown and not led to. */
const leads = (level: Level) => level.depth < 2 || (props.scope.what?.fields.length ?? 0) === 0

async function fetch(scope: Scope, depth: 0 | 1 | 2, parent: string, before?: string): Promise<Level[]> {
  const text = new URLSearchParams(scopeEntries(scope)).toString()
  const query = {
    scope: depth === 0 ? props.text : text,
    zone: readerZone,
    by: by[depth],
    ...(before ? { before } : {}),
  }
  const answer = await call(routes.groupChanges, { query })
  if (depth === 0) more.value = answer.more
  return answer.groups.map((group) => ({
    ...group,
    depth,
    path: `${parent}/${group.key}`,
    scope: inside(scope, depth, group.key),
  }))
}
async function attempt(work: () => Promise<void>) {
  loading.value = true
  try {
    await work()
    problem.value = null
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    loading.value = false
  }
}
watch(
  () => `${props.version} ${props.text}`,
  () =>
    void attempt(async () => {
      open.value = new Set()
      below.value = new Map()
      days.value = await fetch(props.scope, 0, '')
    }),
  { immediate: true },
)
const moreDays = () =>
  attempt(async () => void (days.value = [...days.value, ...(await fetch(props.scope, 0, '', days.value.at(-1)!.key))]))

async function toggle(level: Level) {
  const next = new Set(open.value)
  if (!next.delete(level.path)) {
    next.add(level.path)
    if (!below.value.has(level.path))
      await attempt(async () => {
        const found = await fetch(level.scope, (level.depth + 1) as 1 | 2, level.path)
        below.value = new Map([...below.value, [level.path, found]])
      })
  }
  open.value = next
}
const rows = computed(() => {
  const list: Level[] = []
  const walk = (levels: readonly Level[]) => {
    for (const level of levels) {
      list.push(level)
      if (open.value.has(level.path)) walk(below.value.get(level.path) ?? [])
    }
  }
  walk(days.value)
  return list
})
const actor = (level: Level) => props.names.actors.find((one) => String(one.id) === level.key)
function title(level: Level): string {
  if (level.depth === 0) return dayText(`${level.key}T12:00:00`)
  if (level.depth === 1) return actor(level)?.name ?? `actor ${level.key}`
  return props.names.typeTitle(Number(level.key))
}
</script>

<template>
  <div class="rows">
    <ProblemNote v-if="problem && problem.code !== 'bad-scope'" :problem="problem" />
    <ul role="tree" aria-label="Days">
      <li
        v-for="level in rows"
        :key="level.path"
        role="treeitem"
        :aria-level="level.depth + 1"
        :aria-expanded="level.depth < 2 ? open.has(level.path) : undefined"
        :class="`depth${level.depth}`"
      >
        <button v-if="level.depth < 2" class="plain name" @click="toggle(level)">
          <span class="turn" :class="{ down: open.has(level.path) }" aria-hidden="true">▸</span>
          <ActorGlyph v-if="level.depth === 1 && actor(level)" :kind="actor(level)!.kind" />
          {{ title(level) }}
        </button>
        <span v-else class="name leaf">{{ title(level) }}</span>
        <button v-if="leads(level)" class="plain count" @click="emit('show', level.scope)">
          {{ counted(level.saves, 'save') }}
        </button>
        <span v-else class="count">{{ counted(level.saves, 'save') }}</span>
        <span class="quiet">{{ counted(level.changes, 'change') }}</span>
      </li>
    </ul>
    <p v-if="loading" class="quiet state">Counting …</p>
    <slot v-else-if="!problem && days.length === 0" name="empty" />
    <button v-else-if="more" class="plain earlier" @click="moreDays">Earlier days</button>
  </div>
</template>

<style scoped>
.rows {
  flex: 1;
  overflow: auto;
  min-height: 0;
  background: var(--panel);
}
li {
  display: grid;
  grid-template-columns: minmax(200px, 380px) 110px 130px;
  gap: 10px;
  align-items: center;
  min-height: 28px;
  padding: 0 18px;
  border-bottom: 1px solid var(--line-soft);
  font-size: 13px;
}
.depth0 {
  background: var(--raised);
  font-weight: 600;
}
.depth1 .name {
  padding-left: 22px;
}
.depth2 .name {
  padding-left: 62px;
}
.turn {
  display: inline-block;
  width: 14px;
  color: var(--soft);
}
.turn.down {
  transform: rotate(90deg);
}
.count {
  text-align: right;
}
button.count,
.earlier {
  color: var(--pine);
  text-align: right;
}
.earlier {
  padding: 8px 18px;
}
.state {
  padding: 10px 18px;
}
</style>
