<script setup lang="ts">
import type { Today } from '@spoor/contract'
import { digestSentences, parseScope, type DigestPiece, type Scope, type ScopeNames } from '@spoor/core'
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
@media print {
  .digest {
    font-size: 13px;
    line-height: 19px;
    max-width: none;
  }
}
</style>
