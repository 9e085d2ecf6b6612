<script setup lang="ts">
import type { PackPreview } from '@spoor/contract'
import { howToCheck, type PackCover } from '@spoor/core'
import CoverFacts from './CoverFacts.vue'

/** The first page of a pack, as it will be read or was made. */
export interface Props {
  cover: PackCover
  /** The first changes below it. */
  heads?: PackPreview['heads']
  lines?: PackPreview['lines']
}
defineProps<Props>()
</script>

<template>
  <article class="paper" aria-label="The first page">
    <p class="running">
      <span>Spoor · evidence pack {{ cover.number || 'in the making' }}</span>
    </p>
    <h2>
      <bdi>{{ cover.title || 'For whom or what?' }}</bdi>
    </h2>
    <p class="sentence">
      <bdi>{{ cover.sentence }}</bdi>
    </p>
    <CoverFacts :cover="cover" />
    <h3>How to check this yourself</h3>
    <p v-for="words in howToCheck(cover)" :key="words" class="how">{{ words }}</p>
    <template v-if="heads && lines && lines.length > 0">
      <h3>The changes</h3>
      <div class="lines" tabindex="0" role="region" aria-label="The first changes">
        <table>
          <thead>
            <tr>
              <th v-for="head in heads" :key="head" scope="col">{{ head }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(line, at) in lines" :key="at">
              <td v-for="(cell, column) in line" :key="column">
                <bdi v-if="cell !== null">{{ cell.length > 80 ? `${cell.slice(0, 80)} …` : cell }}</bdi><i
                  v-else
                  class="quiet"
                  >nothing</i
                >
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </article>
</template>

<style scoped>
/* Paper stays paper, whatever the theme. */
.paper {
  --cover-soft: #55615c;
  background: #fff;
  color: #17211e;
  border: 1px solid var(--line);
  box-shadow: 0 1px 4px rgb(0 0 0 / 8%);
  max-width: 760px;
  min-height: 700px;
  margin: 0 auto;
  padding: 34px 40px;
  font-size: 13px;
}
.running {
  font-size: 12px;
  color: #55615c;
  margin-bottom: 14px;
}
h2 {
  font-size: 20px;
  line-height: 28px;
  font-weight: 650;
  margin: 0 0 6px;
}
.sentence {
  font-size: 14px;
  line-height: 21px;
  margin-bottom: 12px;
}
h3 {
  font-size: 13px;
  font-weight: 650;
  margin: 12px 0 3px;
}
.how {
  overflow-wrap: anywhere;
}
.lines {
  overflow-x: auto;
}
table {
  border-collapse: collapse;
  font: 11.5px/17px var(--mono);
  width: 100%;
}
th {
  text-align: left;
  color: #55615c;
  font-weight: 400;
}
th,
td {
  border-bottom: 1px solid #e8ebe7;
  padding: 2px 10px 2px 0;
  vertical-align: top;
  overflow-wrap: break-word;
  min-width: 62px;
  max-width: 190px;
}
.quiet {
  color: #55615c;
}
</style>
