<script setup lang="ts">
import { ref, watch } from 'vue'
import { client, type SheetDetail } from '../api/client'
import Broken from './Broken.vue'
import ClassTable from './ClassTable.vue'
import Matrix from './Matrix.vue'
import Question from '../shared/Question.vue'
import { number as text, toNumber } from '../shared/format'

/** On the page of a run: what it gets wrong by its latest predictions. Nothing where it has none. */
const props = defineProps<{ project: string; number: number; mark: number }>()
const sheet = ref<SheetDetail>()
watch(
  () => props.mark,
  async () => {
    const path = { project: props.project, number: props.number, sheet: 0 }
    const got = await client.GET('/api/v1/projects/{project}/runs/{number}/sheets/{sheet}', { params: { path } })
    if (got.data) sheet.value = got.data
  },
  { immediate: true },
)
const link = `/${props.project}/${props.number}/predictions`
</script>

<template>
  <Question v-if="sheet" title="What does it get wrong?" :says="sheet.says">
    <template #aside>
      <Broken :alarms="sheet.alarms ?? []" :link="link" />
      <p class="small">
        Epoch {{ text(toNumber(sheet.epoch)) }}, {{ sheet.data || sheet.split }},
        {{ sheet.examples.toLocaleString('en-GB') }} examples.
      </p>
      <p class="small"><RouterLink :to="link">Figures, examples and cutoff</RouterLink></p>
    </template>
    <div v-if="sheet.task === 'classes' && sheet.labelled" class="both">
      <Matrix
        :sheet="sheet"
        @choose="
          ([t, p]) =>
            $router.push({
              path: link,
              query: { where: `true == ${JSON.stringify(t)} && predicted == ${JSON.stringify(p)}` },
              hash: '#examples',
            })
        "
      />
      <ClassTable
        :sheet="sheet"
        @choose="
          (c) => $router.push({ path: link, query: { where: `true == ${JSON.stringify(c)}` }, hash: '#examples' })
        "
      />
    </div>
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
