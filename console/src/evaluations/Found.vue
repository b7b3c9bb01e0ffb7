<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { answer, client, type Evaluation } from '../api/client'
import Interval from '../predictions/Interval.vue'
import Question from '../shared/Question.vue'
import { useLoading } from '../shared/loading'
import { linkTo, number as text, toNumber, when } from '../shared/format'

/** What programs found of a run's checkpoints, or of one. */
const props = defineProps<{ project: string; number: number; at?: string; says?: string; mark: number }>()
const list = ref<Evaluation[]>([])
const more = ref(false)
const open = ref<number[]>([])
const { problem, loader } = useLoading()
const read = async (cursor?: string) => {
  const page = await answer(
    client.GET('/api/v1/projects/{project}/runs/{number}/evaluations', {
      params: { path: { project: props.project, number: props.number }, query: { at: props.at, limit: 50, cursor } },
    }),
  )
  list.value = cursor ? [...list.value, ...(page.items ?? [])] : (page.items ?? [])
  more.value = !!page.next
}
const load = loader(() => read())
const rest = loader(() => read(String(list.value[list.value.length - 1]?.number)))
watch(() => [props.mark, props.at], load, { immediate: true })

/** The measures that have a column; the service tells the first ones first. */
const measures = computed(() => {
  const seen: string[] = []
  for (const e of list.value) {
    for (const f of e.figures ?? []) if (!seen.includes(f.name) && seen.length < 3) seen.push(f.name)
  }
  return seen
})
const figure = (e: Evaluation, name: string) => e.figures?.find((f) => f.name === name)
/** A share has a place between 0 and 1, which is drawn. */
const share = (f: NonNullable<ReturnType<typeof figure>>) =>
  f.name === 'accuracy' && f.low !== undefined ? { value: toNumber(f.value), low: f.low, high: f.high } : undefined
const compared = computed(() => list.value.some((e) => e.verified))
const others = (e: Evaluation) => (e.figures ?? []).filter((f) => !measures.value.includes(f.name))
const alarms = (e: Evaluation) => (e.sheets ?? []).flatMap((s) => s.alarms ?? [])
const toggle = (n: number) =>
  (open.value = open.value.includes(n) ? open.value.filter((x) => x !== n) : [...open.value, n])
const command = computed(
  () => `kembrel evaluate ${props.project}/${props.number}@${props.at ?? 'best'} --data DATA -- COMMAND`,
)
</script>

<template>
  <Question id="evaluations" title="What did evaluations find?" :says="says || list[0]?.says || 'Nothing yet.'">
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <table v-if="list.length">
      <thead>
        <tr>
          <th v-if="!at">Checkpoint</th>
          <th>On</th>
          <th v-for="m in measures" :key="m" class="n">{{ m }}</th>
          <th v-if="compared">As recorded</th>
          <th>Predictions</th>
          <th>Who, when</th>
          <th>Rest</th>
        </tr>
      </thead>
      <tbody v-for="e in list" :key="e.number">
        <tr>
          <td v-if="!at" class="mono">
            <RouterLink :to="linkTo(e.checkpoint)">@{{ e.checkpoint.split('@')[1] }}</RouterLink>
          </td>
          <td class="mono">
            <RouterLink v-if="e.data" :to="`/data/${e.data.replace('#', '/').split(':')[0]}`">{{ e.data }}</RouterLink>
            <template v-else>{{ e.split }}</template>
          </td>
          <td v-for="m in measures" :key="m" class="n">
            <template v-if="figure(e, m)">
              <Interval v-if="share(figure(e, m)!)" class="strip" :figure="share(figure(e, m)!)!" />
              <span :title="figure(e, m)!.computed ? 'Computed from the predictions' : 'As the program said'">
                {{ text(figure(e, m)!.value) }}
              </span>
            </template>
          </td>
          <td v-if="compared">
            <span v-if="e.verified" :class="e.verified.same ? 'good' : 'bad'" :title="e.verified.says">
              {{ e.verified.same ? '✓ the same' : '≠ not the same' }}
            </span>
          </td>
          <td>
            <RouterLink
              v-for="s in e.sheets ?? []"
              :key="s.number"
              :to="`/${project}/${number}/predictions/${s.number}`"
            >
              {{ s.examples.toLocaleString('en-GB') }} examples
            </RouterLink>
            <span v-if="alarms(e).length" class="bad">! {{ alarms(e).join(', ') }}</span>
          </td>
          <td class="small">{{ e.who }}, {{ when(e.ended) }}</td>
          <td>
            <button
              type="button"
              class="link"
              :aria-expanded="open.includes(e.number)"
              :aria-label="`More of evaluation ${e.number}`"
              @click="toggle(e.number)"
            >
              {{ open.includes(e.number) ? 'less' : 'more' }}
            </button>
          </td>
        </tr>
        <tr v-if="open.includes(e.number)" class="more">
          <td :colspan="measures.length + 4 + (at ? 0 : 1) + (compared ? 1 : 0)">
            <p v-for="n in e.notes ?? []" :key="n" class="warn">{{ n }}</p>
            <dl>
              <template v-for="f in others(e)" :key="f.name">
                <dt>{{ f.name }}</dt>
                <dd class="mono">
                  {{ text(f.value) }}
                  <template v-if="f.low !== undefined">({{ text(f.low) }} to {{ text(f.high ?? f.low) }})</template>
                </dd>
              </template>
            </dl>
            <p class="small">
              on {{ e.host }}:
              <code class="mono">{{ (e.command ?? []).join(' ') }}</code>
            </p>
          </td>
        </tr>
      </tbody>
    </table>
    <button v-if="more" type="button" class="link" @click="rest">Earlier ones</button>
    <p class="small">
      <code class="mono">{{ command }}</code>
      restores it, runs your evaluation under a recorder, and keeps what it finds.
    </p>
  </Question>
</template>

<style scoped>
.strip {
  margin-right: 10px;
}
dl {
  display: grid;
  grid-template-columns: repeat(2, max-content minmax(0, 1fr));
  gap: 2px 16px;
  margin: 4px 0;
}
dd {
  margin: 0;
}
.more td {
  height: auto;
  padding-bottom: 8px;
}
@media (max-width: 700px) {
  dl {
    grid-template-columns: max-content minmax(0, 1fr);
  }
}
</style>
