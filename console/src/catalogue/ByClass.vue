<script setup lang="ts">
import { computed } from 'vue'
import type { Description } from '../api/client'
import { byClass } from './byClass'

/** Recall by class on the same data, of an edition and, where there is another, of the one in use. */
const props = defineProps<{ description: Description; other?: Description }>()
const all = computed(() => byClass(props.description, props.other))
</script>

<template>
  <template v-for="on in all" :key="on.on">
    <h3 class="small">
      Recall by class on {{ on.on }}, with 95 % intervals
      <span v-for="n in on.seen" :key="n" class="warn">; ▲ #{{ n }} has seen examples of it in training</span>
    </h3>
    <table>
      <thead>
        <tr>
          <th>Class</th>
          <th class="n">Examples</th>
          <th class="n">#{{ description.number }}</th>
          <th v-if="on.compared" class="n">#{{ other?.number }}, in use</th>
          <th v-if="on.compared">Difference</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in on.classes" :key="c.name">
          <td>{{ c.name }}</td>
          <td class="n">{{ c.examples }}</td>
          <td class="n">{{ c.mine }}</td>
          <td v-if="on.compared" class="n">{{ c.theirs }}</td>
          <td v-if="on.compared" :class="{ good: c.apart > 0, bad: c.apart < 0 }">{{ c.says }}</td>
        </tr>
      </tbody>
    </table>
  </template>
</template>

<style scoped>
h3 {
  font-weight: 400;
  margin: 14px 0 4px;
}
</style>
