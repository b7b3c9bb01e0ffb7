<script setup lang="ts">
import { computed, onScopeDispose, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { client, type SheetDetail } from '../api/client'
import Broken from './Broken.vue'
import ClassTable from './ClassTable.vue'
import FigureTable from './FigureTable.vue'
import Matrix from './Matrix.vue'
import { ofClass } from './answers'
import Question from '../shared/Question.vue'
import { number as text, toNumber } from '../shared/format'

/**
 * What a run gets wrong by its latest predictions, or a checkpoint by the latest at its step. Nothing where there are
 * none.
 */
const props = defineProps<{ project: string; number: number; mark: number; step?: number }>()
const sheet = ref<SheetDetail>()
const underWay = ref<string[]>([])
/** What is being assessed shows its progress, every few seconds until it is complete. */
let next: ReturnType<typeof setTimeout> | undefined
let left = false
const assessing = async (path: { project: string; number: number }) => {
  const query = { state: 'assessing' as const, ...(props.step === undefined ? {} : { step: String(props.step) }) }
  const list = await client.GET('/api/v1/projects/{project}/runs/{number}/sheets', { params: { path, query } })
  underWay.value = (list.data?.items ?? []).map((s) => `${s.split}, epoch ${text(toNumber(s.epoch))}, are ${s.says}`)
  clearTimeout(next)
  if (underWay.value.length && !left) next = setTimeout(() => void assessing(path), 3000)
}
onScopeDispose(() => {
  left = true
  clearTimeout(next)
})
watch(
  () => [props.mark, props.step],
  async () => {
    const of = { project: props.project, number: props.number }
    void assessing(of)
    let chosen = 0
    if (props.step !== undefined) {
      const query = { step: String(props.step), limit: 1 }
      const list = await client.GET('/api/v1/projects/{project}/runs/{number}/sheets', {
        params: { path: of, query },
      })
      chosen = list.data?.items?.[0]?.number ?? -1
    }
    if (chosen < 0) return
    const path = { ...of, sheet: chosen }
    const got = await client.GET('/api/v1/projects/{project}/runs/{number}/sheets/{sheet}', { params: { path } })
    if (got.data) sheet.value = got.data
  },
  { immediate: true },
)
const link = computed(
  () => `/${props.project}/${props.number}/predictions${props.step === undefined ? '' : `/${sheet.value?.number}`}`,
)
const router = useRouter()
const show = (where: string) => void router.push({ path: link.value, query: { where }, hash: '#examples' })
</script>

<template>
  <Question v-if="sheet || underWay.length" title="What does it get wrong?" :says="sheet?.says ?? ''">
    <template #aside>
      <p v-for="u in underWay" :key="u" class="small">Predictions on {{ u }}</p>
      <template v-if="sheet">
        <Broken :alarms="sheet.alarms ?? []" :link="link" />
        <p class="small">
          Epoch {{ text(toNumber(sheet.epoch)) }}, {{ sheet.data || sheet.split }},
          {{ sheet.examples.toLocaleString('en-GB') }} examples.
        </p>
        <p class="small"><RouterLink :to="link">Figures, examples and cutoff</RouterLink></p>
      </template>
    </template>
    <template v-if="sheet">
      <div v-if="['classes', 'labels', 'masks'].includes(sheet.task) && sheet.labelled" class="both">
        <Matrix :sheet="sheet" @choose="show" />
        <ClassTable :sheet="sheet" @choose="(c) => show(ofClass(sheet?.task ?? 'classes', c))" />
      </div>
      <FigureTable v-else-if="sheet.labelled" :figures="sheet.figures ?? []" />
    </template>
  </Question>
</template>

<style scoped>
.both {
  display: flex;
  flex-wrap: wrap;
  gap: 12px 34px;
  align-items: flex-start;
}
</style>
