<script setup lang="ts">
import { routes, type Witness } from '@spoor/contract'
import { counted, grouped } from '@spoor/core'
import { addressOf } from '../api/client.ts'
import { fullTime } from '../value/time.ts'

/** Who is given seals, and the last that each took. */
export interface Props {
  witnesses: readonly Witness[]
}
defineProps<Props>()
const kinds: Readonly<Record<Witness['kind'], string>> = {
  authority: 'stamps one with the time each day',
  folder: 'a file each hour',
  address: 'each hour',
  mail: 'a mail each day',
}
const stamp = (sealNumber: number) => addressOf(routes.readSealStamp, { params: { sealNumber: String(sealNumber) } })
</script>

<template>
  <table>
    <thead>
      <tr>
        <th scope="col">Witness</th>
        <th scope="col">How</th>
        <th scope="col">Took last</th>
        <th scope="col">In all</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in witnesses" :key="one.id">
        <th scope="row" class="place">
          <bdi>{{ one.place }}</bdi>
        </th>
        <td>{{ one.endedAt === null ? kinds[one.kind] : `not since ${fullTime(one.endedAt)}` }}</td>
        <td>
          <template v-if="one.last"
            >seal {{ grouped(one.last.number) }}, {{ fullTime(one.last.at) }}
            <a v-if="one.last.stamped" :href="stamp(one.last.number)" download>its time-stamp</a></template
          >
          <span v-else class="quiet">none yet</span>
          <p v-if="one.trouble" class="failure">
            Not taken, tried {{ counted(one.trouble.tries, 'time') }}, last {{ fullTime(one.trouble.at) }}:
            <bdi>{{ one.trouble.words }}</bdi>
          </p>
        </td>
        <td>{{ grouped(one.taken) }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped src="../frame/page.css"></style>
<style scoped>
.place {
  min-width: 180px;
  overflow-wrap: break-word;
}
</style>
