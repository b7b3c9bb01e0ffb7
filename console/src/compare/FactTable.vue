<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Comparison, FactRow } from '../api/client'
import GroupHeads from './GroupHeads.vue'

/** What differs of what went in, a column for each group; what is the same is folded away. */
const props = defineProps<{ comparison: Comparison }>()
const same = ref(false)
/** So many packages that differ are shown at once; more are folded to their number. */
const few = 4
const packages = ref(false)
const many = computed(() => props.comparison.differ?.filter((r) => r.section === 'package').length ?? 0)
const differ = computed(() =>
  (props.comparison.differ ?? []).filter((r) => r.section !== 'package' || packages.value || many.value <= few),
)
/** A few groups stand beside each other without scrolling at 1280 pixels. */
const widest = computed(() => `${Math.min(260, Math.max(140, 840 / (props.comparison.groups?.length || 1)))}px`)
const shown = (r: FactRow, v: string) =>
  r.name === 'commit' ? v.slice(0, 10) : v.replace(/^"(.*)"$/, '$1').replaceAll('", "', ', ')
</script>

<template>
  <div class="wide">
    <table v-if="comparison.differ?.length">
      <thead>
        <tr>
          <th scope="col"><span class="visually-hidden">What</span></th>
          <GroupHeads :groups="comparison.groups ?? []" />
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in differ" :key="r.section + r.name">
          <th scope="row" :title="r.section">{{ r.name }}</th>
          <td
            v-for="(v, i) in r.groups"
            :key="i"
            class="n"
            :class="{ apart: r.apart?.[i], long: r.section === 'command' }"
            :title="shown(r, v)"
          >
            <bdi>{{ shown(r, v) }}</bdi>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="many > few" class="small">
      {{ many }} packages differ
      <button type="button" class="link" :aria-expanded="packages" @click="packages = !packages">
        {{ packages ? 'hide' : 'show' }}
      </button>
    </p>
    <p v-if="comparison.same?.length" class="small">
      {{ comparison.same.length }} the same
      <button type="button" class="link" :aria-expanded="same" @click="same = !same">
        {{ same ? 'hide' : 'show' }}
      </button>
    </p>
    <table v-if="same">
      <tbody>
        <tr v-for="r in comparison.same" :key="r.section + r.name">
          <td class="small">{{ r.section }}</td>
          <td>{{ r.name }}</td>
          <td class="n value">{{ shown(r, r.values?.[0] ?? '') }}</td>
        </tr>
      </tbody>
    </table>
    <details v-for="c in comparison.changes" :key="c.run">
      <summary class="small">
        Not committed in {{ comparison.project }} {{ c.runs.join(', ') }}, on {{ c.commit.slice(0, 10) }}
      </summary>
      <pre class="command" tabindex="0">{{ c.patch }}</pre>
    </details>
  </div>
</template>

<style scoped>
.wide {
  overflow-x: auto;
}
tbody th {
  font-weight: 400;
  font-size: 13px;
  color: var(--ink);
}
td.n {
  padding: 5px 10px;
  max-width: v-bind(widest);
  overflow: hidden;
  text-overflow: ellipsis;
}
td.apart {
  background: var(--accent2);
  font-weight: 600;
}
td.long {
  direction: rtl;
}
td.value {
  white-space: normal;
  max-width: 640px;
  word-break: break-word;
}
button.link {
  background: none;
  border: 0;
  padding: 0;
  color: var(--accent);
  cursor: pointer;
}
</style>
