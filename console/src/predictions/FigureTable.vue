<script setup lang="ts">
import type { Sheet } from '../api/client'

/** Figures with their 95 % intervals. */
defineProps<{ figures: NonNullable<Sheet['figures']> }>()
</script>

<template>
  <table class="figures">
    <thead>
      <tr>
        <th>figure</th>
        <th class="n">value</th>
        <th class="n">95 %</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="f in figures" :key="f.name">
        <td>{{ f.name }}</td>
        <td class="n">{{ f.value.toFixed(4) }}</td>
        <td class="n">
          <template v-if="f.low !== undefined">{{ f.low.toFixed(3) }} to {{ f.high?.toFixed(3) }}</template>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.figures {
  width: 520px;
}
</style>
