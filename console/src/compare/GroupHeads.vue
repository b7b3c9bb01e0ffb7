<script setup lang="ts">
import type { Comparison } from '../api/client'
import { legible } from '../chart/lines'
import { lookOf } from './looks'

/** A heading for each group of runs, in its colour. */
defineProps<{ groups: NonNullable<Comparison['groups']> }>()
</script>

<template>
  <th v-for="(g, i) in groups" :key="i" scope="col" class="n" :style="{ color: legible(`var(${lookOf(i).colour})`) }">
    {{ g.label }}
  </th>
</template>
