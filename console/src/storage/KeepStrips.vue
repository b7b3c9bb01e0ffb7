<script setup lang="ts">
import { computed } from 'vue'
import type { KeptOne } from '../api/client'
import { bytes, linkTo, place, toNumber } from '../shared/format'

/** What a keep rule says of checkpoints: for each run a line over the epochs; dots stay, crosses go. */
const props = defineProps<{ checkpoints: KeptOne[] }>()
const width = 420
const runs = computed(() => {
  const out = new Map<string, KeptOne[]>()
  for (const c of props.checkpoints) {
    const run = c.address.split('@')[0]
    out.set(run, [...(out.get(run) ?? []), c])
  }
  return [...out].map(([address, list]) => {
    const going = list.filter((c) => !c.stays)
    return { address, list, going: going.length, frees: going.reduce((sum, c) => sum + c.frees, 0) }
  })
})
const most = computed(() => Math.max(1, ...props.checkpoints.map((c) => toNumber(c.epoch) || 0)))
const x = (c: KeptOne) => 6 + ((width - 12) * (toNumber(c.epoch) || 0)) / most.value
const says = (c: KeptOne) =>
  `${place(c)} ${c.stays ? 'stays: ' + (c.why ?? []).join(', ') : 'to be deleted'}, ${bytes(c.size)}`
</script>

<template>
  <table>
    <thead>
      <tr>
        <th>Run</th>
        <th>
          Checkpoints by epoch, 0 to {{ most }}
          <svg width="11" height="11" aria-hidden="true"><circle cx="5.5" cy="6.5" r="3.6" /></svg>
          stays
          <svg width="11" height="11" aria-hidden="true"><path d="M2.5 3.5l6 6m0-6l-6 6" /></svg>
          to be deleted
        </th>
        <th class="n">Stay</th>
        <th class="n">To delete</th>
        <th class="n">Alone free</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="r in runs" :key="r.address">
        <td class="mono">
          <RouterLink :to="linkTo(r.address)">{{ r.address }}</RouterLink>
        </td>
        <td>
          <svg :width="width" height="18" role="group" :aria-label="`checkpoints of ${r.address}`">
            <line :x1="x(r.list[0])" :x2="x(r.list[r.list.length - 1])" y1="9" y2="9" />
            <a
              v-for="c in r.list"
              :key="c.address"
              :href="linkTo(c.address)"
              :aria-label="says(c)"
              @click.prevent="$router.push(linkTo(c.address))"
            >
              <circle v-if="c.stays" :cx="x(c)" cy="9" r="3.6" />
              <path v-else :d="`M${x(c) - 3} 6l6 6m0-6l-6 6`" />
              <title>{{ says(c) }}</title>
            </a>
          </svg>
        </td>
        <td class="n">{{ r.list.length - r.going }}</td>
        <td class="n">{{ r.going || '' }}</td>
        <td class="n">{{ r.going ? bytes(r.frees) : '' }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
svg {
  display: block;
}
th svg {
  display: inline-block;
  margin-left: 10px;
}
line {
  stroke: var(--rule2);
}
circle {
  fill: var(--accent);
}
path {
  stroke: var(--bad);
  stroke-width: 1.5;
}
</style>
