<script setup lang="ts">
import { computed } from 'vue'
import type { SheetDetail } from '../api/client'
import Interval from './Interval.vue'

/** Recall and precision of each class, with intervals, and recall over the epochs. */
const props = defineProps<{ sheet: SheetDetail }>()
const emit = defineEmits<{ choose: [name: string] }>()

const rows = computed(() =>
  (props.sheet.assessed.classes ?? []).map((c, i) => ({
    ...c,
    line: line((props.sheet.over ?? []).map((s) => s.recall?.[i])),
  })),
)
const all = computed(() => {
  const by = (name: string) => props.sheet.figures?.find((f) => f.name === name)
  return { accuracy: by('accuracy'), precision: by('precision, mean of classes'), kappa: by('kappa') }
})
const allLine = computed(() => line((props.sheet.over ?? []).map((s) => s.figures.accuracy)))

/** A small curve from 0 at the foot to 1 at the top. */
function line(values: (number | null | undefined)[]) {
  const known = values.map((v, i) => [i, v] as const).filter((p): p is [number, number] => typeof p[1] === 'number')
  if (known.length < 2) return ''
  const scale = 88 / Math.max(1, values.length - 1)
  return known.map(([i, v], n) => `${n ? 'L' : 'M'}${(2 + i * scale).toFixed(1)} ${(15 - 13 * v).toFixed(1)}`).join('')
}
const three = (v: number | undefined) => (v === undefined ? '' : v.toFixed(3))
</script>

<template>
  <table class="classes">
    <thead>
      <tr>
        <th>class</th>
        <th class="n">examples</th>
        <th class="n">recall</th>
        <th><span class="hidden">interval</span></th>
        <th class="n">precision</th>
        <th class="n">F1</th>
        <th v-if="sheet.over?.length">over the epochs</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="c in rows" :key="c.name">
        <td>
          <button type="button" class="link" @click="emit('choose', c.name)">{{ c.name }}</button>
        </td>
        <td class="n">{{ c.true.toLocaleString('en-GB') }}</td>
        <td class="n">{{ three(c.recall?.value) }}</td>
        <td>
          <Interval v-if="c.recall" :figure="c.recall" />
        </td>
        <td class="n">{{ three(c.precision?.value) }}</td>
        <td class="n">{{ three(c.f1) }}</td>
        <td v-if="sheet.over?.length">
          <svg width="92" height="16" aria-hidden="true">
            <path :d="c.line" fill="none" stroke="var(--c1)" stroke-width="1.4" />
          </svg>
        </td>
      </tr>
      <tr v-if="all.accuracy" class="all">
        <td>all</td>
        <td class="n">{{ sheet.labelled.toLocaleString('en-GB') }}</td>
        <td class="n">{{ three(all.accuracy.value) }}</td>
        <td>
          <Interval :figure="all.accuracy" />
        </td>
        <td class="n">{{ three(all.precision?.value) }}</td>
        <td class="n small">{{ all.kappa ? `kappa ${three(all.kappa.value)}` : '' }}</td>
        <td v-if="sheet.over?.length">
          <svg width="92" height="16" aria-hidden="true">
            <path :d="allLine" fill="none" stroke="var(--c1)" stroke-width="1.4" />
          </svg>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.classes {
  flex: 1 1 440px;
  width: auto;
  min-width: 0;
}
.all td {
  font-weight: 600;
  border-bottom: 0;
}
.all td.small {
  font-weight: 400;
}
svg {
  vertical-align: middle;
}
.hidden {
  position: absolute;
  clip-path: inset(50%);
}
</style>
