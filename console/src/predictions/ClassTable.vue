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
/** What the last row says, by the names of figures; what it ends with. */
const over: Record<string, [string, string, string, string]> = {
  classes: ['accuracy', 'precision, mean of classes', 'kappa', 'kappa '],
  labels: ['recall, of all labels', 'precision, of all labels', 'F1, of all labels', ''],
  masks: ['pixel accuracy', '', 'Dice, mean of classes', ''],
}
const all = computed(() => {
  const by = (name: string) => props.sheet.figures?.find((f) => f.name === name)
  const [recall, precision, last, word] = over[props.sheet.task] ?? ['', '', '', '']
  return {
    recall: by(recall),
    precision: by(precision),
    last: by(last),
    word,
    line: recall,
    iou: by('IoU, mean of classes'),
  }
})
const masks = computed(() => props.sheet.task === 'masks')
const allLine = computed(() => line((props.sheet.over ?? []).map((s) => s.figures[all.value.line])))

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
        <th class="n">{{ masks ? 'pixels' : 'examples' }}</th>
        <th v-if="masks" class="n">IoU</th>
        <th class="n">recall</th>
        <th><span class="hidden">interval</span></th>
        <th class="n">precision</th>
        <th class="n">{{ masks ? 'Dice' : 'F1' }}</th>
        <th v-if="sheet.over?.length">over the epochs</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="c in rows" :key="c.name">
        <td>
          <button type="button" class="link" @click="emit('choose', c.name)">{{ c.name }}</button>
        </td>
        <td class="n">{{ c.true.toLocaleString('en-GB') }}</td>
        <td v-if="masks" class="n">{{ three(c.iou) }}</td>
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
      <tr v-if="all.recall" class="all">
        <td>all</td>
        <td class="n">{{ (sheet.assessed.pixels || sheet.labelled).toLocaleString('en-GB') }}</td>
        <td v-if="masks" class="n">{{ three(all.iou?.value) }}</td>
        <td class="n">{{ three(all.recall.value) }}</td>
        <td>
          <Interval :figure="all.recall" />
        </td>
        <td class="n">{{ three(all.precision?.value) }}</td>
        <td class="n" :class="{ small: all.word }">{{ all.last ? all.word + three(all.last.value) : '' }}</td>
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
