<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { answer, client, type Description, type Edition } from '../api/client'
import LineageLink from '../shared/LineageLink.vue'
import PartFiles from '../shared/PartFiles.vue'
import PageProblem from '../shared/PageProblem.vue'
import Question from '../shared/Question.vue'
import { bytes, hyper, linkTo, number as text, when, type Float } from '../shared/format'
import { useLive } from '../shared/live'
import { useLoading } from '../shared/loading'
import ByClass from './ByClass.vue'
import Checks from './Checks.vue'

/** An edition: whether it is better, what changed, whether it was checked, where it comes from and how it is used. */
const props = defineProps<{ model: string; edition: number }>()
const shown = ref<Edition>()
const { problem, loader } = useLoading()
const load = loader(async () => {
  shown.value = await answer(
    client.GET('/api/v1/models/{model}/editions/{edition}', {
      params: { path: { model: props.model, edition: props.edition } },
    }),
  )
  const inUse = (
    await answer(client.GET('/api/v1/models/{model}', { params: { path: { model: props.model } } }))
  ).standings?.find((s) => s.name === 'in-use')?.edition
  described.value = await describe(props.edition)
  other.value = inUse && inUse !== props.edition ? await describe(inUse) : undefined
})
const described = ref<Description>()
/** The edition in use, where that is another. */
const other = ref<Description>()
const describe = (edition: number) =>
  answer(
    client.GET('/api/v1/models/{model}/editions/{edition}/description', {
      params: { path: { model: props.model, edition } },
    }),
  )
watch(() => props.edition, load)
useLive({}, { model: load, hello: load })
const facts = computed(() => shown.value?.facts)
/** Figures by name, a column for each data on which they were taken. */
const columns = computed(() => ['', ...Object.keys(facts.value?.measured ?? {}).sort()])
const figures = computed(() => {
  const f = facts.value
  if (!f) return []
  const all: Record<string, Record<string, Float>> = { '': f.figures ?? {}, ...f.measured }
  const names = [...new Set(Object.values(all).flatMap((m) => Object.keys(m)))].sort()
  return names.map((name) => ({ name, values: columns.value.map((on) => all[on]?.[name]) }))
})
const from = computed(() => {
  const f = facts.value
  if (!f) return ''
  const data = Object.entries(f.data ?? {}).map(([use, d]) => `${use} ${d}`)
  return (
    `${f.run}${f.title ? ' (' + f.title + ')' : ''} by ${f.who}, started ${when(f.started)}, epoch ${String(f.epoch)}.` +
    (data.length ? ` Data: ${data.join(', ')}.` : '') +
    (shown.value?.run_gone ? ' Its run is deleted; what was known of it is here.' : '')
  )
})
const formats = [
  { name: 'html', says: 'HTML' },
  { name: 'markdown', says: 'Markdown' },
  { name: 'cyclonedx', says: 'bill of materials (CycloneDX)' },
]
const fileOf = (format: string) =>
  `/api/v1/models/${props.model}/editions/${props.edition}/description/file?format=${format}`
const href = (file: string) =>
  `/api/v1/models/${props.model}/editions/${props.edition}/file?path=${encodeURIComponent(file)}`
</script>

<template>
  <main>
    <PageProblem :problem="problem" :missing="!shown" :name="`${model}#${edition}`" />
    <template v-if="shown && facts">
      <div class="page-head">
        <div>
          <div class="mono small">
            <RouterLink :to="{ name: 'model', params: { model } }">{{ model }}</RouterLink>
          </div>
          <h1>Edition #{{ shown.number }}</h1>
        </div>
        <div class="now">
          <span v-for="s in shown.standings" :key="s" class="accent">{{ s.replaceAll('-', ' ') }}&ensp;</span>
          <span class="small">{{ shown.why }}</span>
        </div>
        <span class="space"></span>
        <div>
          <div class="small">checkpoint</div>
          <div class="mono">
            <template v-if="shown.run_gone">{{ shown.origin }}</template>
            <RouterLink v-else :to="linkTo(shown.origin)">{{ shown.origin }}</RouterLink>
          </div>
        </div>
        <div>
          <div class="small">size</div>
          <div class="mono figure">{{ bytes(shown.size) }}</div>
        </div>
        <div>
          <div class="small">entered</div>
          <div class="figure">{{ when(shown.entered) }}, {{ shown.who }}</div>
        </div>
      </div>
      <p v-for="w in shown.warnings" :key="w" class="warn says">▲ {{ w }}</p>

      <Question title="Is it better than the one in use?" :says="shown.says?.better">
        <table>
          <thead>
            <tr>
              <th>Figure</th>
              <th v-for="on in columns" :key="on" class="n">
                {{ on || 'recorded' }}
                <span v-if="facts.trained_on?.includes(on)" class="warn">▲ seen in training</span>
              </th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="f in figures" :key="f.name">
              <td class="mono">{{ f.name }}</td>
              <td v-for="(v, i) in f.values" :key="i" class="n">{{ v === undefined ? '' : text(v) }}</td>
            </tr>
          </tbody>
        </table>
        <ByClass v-if="described" :description="described" :other="other" />
      </Question>
      <Question title="What changed?" :says="shown.says?.changed">
        <table>
          <thead>
            <tr>
              <th>Hyperparameter</th>
              <th>Value</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(v, name) in facts.hyper" :key="name">
              <td class="mono">{{ name }}</td>
              <td class="mono">{{ hyper(v) }}</td>
            </tr>
          </tbody>
        </table>
      </Question>
      <Question title="Has it been checked?" :says="shown.says?.checked">
        <p v-for="s in shown.sign_offs ?? []" :key="s.standing + s.who + s.at" class="small">
          Signed off for {{ s.standing.replaceAll('-', ' ') }} by {{ s.who }} on {{ when(s.at) }}
          <em v-if="s.why">“{{ s.why }}”</em>
        </p>
        <Checks :edition="shown" :wanted="[]" />
      </Question>
      <Question title="Where does it come from, who uses it?" :says="from">
        <template #aside><LineageLink :of="shown.address" /></template>
        <p v-if="facts.commit" class="small">
          code
          <span class="mono">{{ facts.commit }}</span>
          {{ facts.clean === false ? ', with changes that were not committed' : '' }}
        </p>
        <pre v-if="facts.command?.length" class="command">{{ facts.command.join(' ') }}</pre>
      </Question>
      <Question title="How is it used?" :says="`It is usable for ${facts.usable_for}.`">
        <template #aside>
          <p class="small">
            Its description, for those who use it:
            <a v-for="f in formats" :key="f.name" class="file" :href="fileOf(f.name)" download>{{ f.says }}</a>
          </p>
        </template>
        <template v-if="described">
          <dl>
            <dt class="small">for</dt>
            <dd>{{ described.purpose || 'nobody has written it down' }}</dd>
            <dt class="small">not for</dt>
            <dd>{{ described.limits || 'nobody has written it down' }}</dd>
            <dt v-if="described.contact" class="small">ask</dt>
            <dd v-if="described.contact">{{ described.contact }}</dd>
            <dt v-if="described.parameters" class="small">made of</dt>
            <dd v-if="described.parameters">
              {{ described.parameters.toLocaleString('en-GB') }} numbers in {{ described.arrays }} arrays
            </dd>
          </dl>
          <template v-for="l in described.load" :key="l.in">
            <p class="small">{{ l.in }}</p>
            <pre class="command" tabindex="0">{{ l.lines }}</pre>
          </template>
        </template>
        <PartFiles :files="shown.files ?? []" :href="href" />
      </Question>
    </template>
  </main>
</template>

<style scoped>
.says {
  margin: 0;
  padding: 0 24px 6px;
}
dl {
  display: grid;
  grid-template-columns: 70px minmax(0, 1fr);
  gap: 4px 12px;
  margin: 0 0 12px;
}
dd {
  margin: 0;
  white-space: pre-line;
}
.file {
  display: block;
  text-decoration: underline;
}
</style>
