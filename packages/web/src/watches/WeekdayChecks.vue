<script setup lang="ts">
import Checkbox from 'ant-design-vue/es/checkbox'
import { weekdays } from './weekdays.ts'

/** Some days of the week. */
const days = defineModel<number[]>('days', { required: true })
const toggle = (day: number) =>
  (days.value = days.value.includes(day) ? days.value.filter((one) => one !== day) : [...days.value, day].sort())
</script>

<template>
  <Checkbox v-for="one in weekdays" :key="one.value" :checked="days.includes(one.value)" @change="toggle(one.value)">{{
    one.label
  }}</Checkbox>
</template>
