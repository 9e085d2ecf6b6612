<script setup lang="ts">
import type { Today } from '@spoor/contract'
import {
  digestSentences,
  firstWork,
  parseScope,
  workText,
  type DigestPiece,
  type PivotWork,
  type Scope,
  type ScopeNames,
} from '@spoor/core'
import { computed } from 'vue'
import type { LocationQueryRaw } from 'vue-router'
import { scopeQuery } from '../scope/query.ts'

/** A spell in a few exact sentences; every figure leads to what it counts. */
export interface Props {
  today: Today
  names: ScopeNames
}
const props = defineProps<Props>()
const pieces = computed((): DigestPiece[] =>
  digestSentences(
    {
      ...props.today,
      scope: parseScope(new URLSearchParams(props.today.scope)).scope,
      stories: props.today.stories?.length ?? null,
    },
    props.names,
  ),
)
const works = computed(() => {
  const { scope } = parseScope(new URLSearchParams(props.today.scope))
  const pivot = (text: string, work: Partial<PivotWork>) => ({
    text,
    query: { ...scopeQuery(scope), reading: 'work', work: workText({ ...firstWork.pivot, ...work }) },
  })
  return [
    pivot('by record type and kind of actor', { rows: 'type', columns: 'kind' }),
    pivot('by whom and at which hour', { rows: 'who', columns: 'hour', shown: 'heat' }),
    pivot('by field and day', { rows: 'field', columns: 'day', measure: 'changes' }),
  ]
})
function query(scope: Scope, reading: string): LocationQueryRaw {
  return { ...scopeQuery(scope), ...(reading === 'saves' ? {} : { reading }) }
}
</script>

<template>
  <p class="digest">
    <template v-for="(piece, at) in pieces" :key="at"
      ><template v-if="piece.piece === 'words'">{{ piece.text }}</template
      ><RouterLink
        v-else-if="piece.piece === 'figure'"
        :to="{ path: '/changes', query: query(piece.scope, piece.reading) }"
        >{{ piece.text }}</RouterLink
      ><a v-else href="#standing-out">{{ piece.text }}</a></template
    >
  </p>
  <p class="worked">
    <span class="quiet">Worked out: </span>
    <template v-for="(one, at) in works" :key="one.text"
      ><template v-if="at > 0"> · </template
      ><RouterLink :to="{ path: '/changes', query: one.query }">{{ one.text }}</RouterLink></template
    >
  </p>
</template>

<style scoped>
.digest {
  font-size: 16px;
  line-height: 26px;
  max-width: 640px;
}
a {
  font-weight: 650;
  text-decoration: none;
  border-bottom: 1.5px dotted var(--pine);
}
.worked {
  font-size: 13px;
  margin: 4px 0 8px;
}
.worked a {
  font-weight: 400;
}
@media print {
  .worked {
    display: none;
  }
  .digest {
    font-size: 13px;
    line-height: 19px;
    max-width: none;
  }
}
</style>
