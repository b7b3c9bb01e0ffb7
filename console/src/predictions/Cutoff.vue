<script setup lang="ts">
import { ElOption, ElSelect, ElSlider } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { answer, client, type SheetDetail } from '../api/client'
import Question from '../shared/Question.vue'
import { useQuery } from '../shared/query'

/** What answering only from a score on comes to: over all answers, or of one class against the rest. */
const props = defineProps<{ sheet: SheetDetail; project: string; number: number }>()
const at = useQuery<number>('cutoff', 0.5)
const name = useQuery<string>('of', '')
type Point = { at: number; answered: number; right: number; labelled?: number; recall?: number; precision?: number }
const points = ref<Point[]>([])
const rates = ref<[number, number][]>([])
const problem = ref('')
watch(
  [name, () => props.sheet.number],
  async () => {
    const path = { project: props.project, number: props.number, sheet: props.sheet.number }
    try {
      const got = await answer(
        client.GET('/api/v1/projects/{project}/runs/{number}/sheets/{sheet}/cutoffs', {
          params: { path, query: { class: name.value || undefined } },
        }),
      )
      points.value = got.table ?? got.sure ?? []
      rates.value = (got.table ?? []).map((c) => [c.false_rate ?? 0, c.recall ?? 0])
      problem.value = ''
    } catch (e) {
      problem.value = (e as Error).message
    }
  },
  { immediate: true },
)
/** Of a class the table falls, of all answers it rises. */
const here = computed(() =>
  name.value
    ? [...points.value].reverse().find((p) => p.at >= at.value)
    : [...points.value].reverse().find((p) => p.at <= at.value + 1e-9),
)
const all = computed(() => props.sheet.examples)
const says = computed(() => {
  const p = here.value
  if (!p) return name.value ? `No score of ${name.value} reaches ${at.value}.` : ''
  const share = (a: number, b: number) => (b ? (a / b).toFixed(3) : '–')
  if (name.value)
    return `From ${at.value} on, ${name.value} is answered ${p.answered} times: recall ${(p.recall ?? 0).toFixed(3)}, precision ${(p.precision ?? 0).toFixed(3)}.`
  return `From ${at.value} on, ${share(p.answered, all.value)} of the examples get an answer, and ${share(p.right, p.labelled ?? 0)} of those are right.`
})
const W = 260
const roc = computed(() => rates.value.map(([x, y], i) => `${i ? 'L' : 'M'}${x * W} ${W - y * W}`).join(''))
const area = computed(() => props.sheet.assessed.classes?.find((c) => c.name === name.value)?.area)
/** Recall against precision, from the highest score on; where nothing is answered there is no precision. */
const traded = computed(() =>
  points.value
    .filter((p) => p.precision !== undefined)
    .map((p, i) => `${i ? 'L' : 'M'}${(p.recall ?? 0) * W} ${W - (p.precision ?? 0) * W}`)
    .join(''),
)
const share = computed(() => {
  const c = props.sheet.assessed.classes?.find((x) => x.name === name.value)
  return c && props.sheet.labelled ? c.true / props.sheet.labelled : 0
})
const average = computed(() => props.sheet.assessed.classes?.find((c) => c.name === name.value)?.average)
const curve = computed(() =>
  points.value
    .filter((p) => p.answered > 0)
    .map((p, i) => `${i ? 'L' : 'M'}${(p.answered / all.value) * W} ${W - (p.right / (p.labelled || 1)) * W}`)
    .join(''),
)
</script>

<template>
  <Question title="From which score on should it answer?" :says="says">
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <div class="both">
      <div class="set">
        <ElSelect
          v-model="name"
          size="small"
          clearable
          placeholder="all answers"
          aria-label="Of which class"
          @clear="name = ''"
        >
          <ElOption value="" label="all answers" />
          <ElOption v-for="c in sheet.classes ?? []" :key="c" :value="c" />
        </ElSelect>
        <ElSlider v-model="at" :show-tooltip="false" :min="0" :max="1" :step="0.01" aria-label="Cutoff" />
        <p class="small">
          Written with the answers below it left out:
          <span class="mono">kembrel predictions {{ sheet.run }} --to answers.csv --cutoff {{ at }}</span>
        </p>
      </div>
      <figure>
        <svg :width="W + 8" :height="W + 8" viewBox="-4 -4 268 268" role="img" :aria-label="says">
          <path :d="`M0 ${W}H${W}M0 0V${W}`" stroke="var(--rule2)" fill="none" />
          <path v-if="name" :d="`M0 ${W}L${W} 0`" stroke="var(--rule)" fill="none" />
          <path :d="name ? roc : curve" stroke="var(--c1)" stroke-width="1.8" fill="none" />
          <circle
            v-if="here"
            :cx="name ? (rates[points.indexOf(here)]?.[0] ?? 0) * W : (here.answered / all) * W"
            :cy="name ? W - (rates[points.indexOf(here)]?.[1] ?? 0) * W : W - (here.right / (here.labelled || 1)) * W"
            r="4"
            fill="var(--c2)"
          />
        </svg>
        <figcaption class="small">
          <template v-if="name">
            right: false alarms among the others, up: recall{{ area === undefined ? '' : `; area ${area.toFixed(3)}` }}
          </template>
          <template v-else>right: share that is answered, up: share of those that is right</template>
        </figcaption>
      </figure>
      <figure v-if="name">
        <svg :width="W + 8" :height="W + 8" viewBox="-4 -4 268 268" role="img" aria-label="Precision against recall">
          <path :d="`M0 ${W}H${W}M0 0V${W}`" stroke="var(--rule2)" fill="none" />
          <path :d="`M0 ${W - share * W}H${W}`" stroke="var(--rule)" fill="none" />
          <path :d="traded" stroke="var(--c1)" stroke-width="1.8" fill="none" />
          <circle
            v-if="here?.precision !== undefined"
            :cx="(here.recall ?? 0) * W"
            :cy="W - (here.precision ?? 0) * W"
            r="4"
            fill="var(--c2)"
          />
        </svg>
        <figcaption class="small">
          right: recall, up: precision{{ average === undefined ? '' : `; average ${average.toFixed(3)}` }}
        </figcaption>
      </figure>
    </div>
  </Question>
</template>

<style scoped>
.both {
  display: flex;
  flex-wrap: wrap;
  gap: 20px 40px;
  align-items: flex-start;
}
.set {
  width: 300px;
}
figure {
  margin: 0;
  width: 268px;
}
</style>
