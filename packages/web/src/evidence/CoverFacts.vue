<script setup lang="ts">
import { coverRows, type PackCover } from '@spoor/core'

/** What the first page of a pack says of it, row by row. */
export interface Props {
  cover: PackCover
}
defineProps<Props>()
</script>

<template>
  <dl>
    <template v-for="row in coverRows(cover)" :key="row.name">
      <dt>{{ row.name }}</dt>
      <dd>
        <p v-for="(words, at) in row.words" :key="at">
          <bdi>{{ words }}</bdi>
        </p>
      </dd>
    </template>
  </dl>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: 110px minmax(0, 1fr);
  gap: 4px 10px;
  margin: 6px 0 14px;
}
dt {
  color: var(--cover-soft, var(--soft));
}
dd {
  overflow-wrap: anywhere;
}
</style>
