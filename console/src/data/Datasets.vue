<script setup lang="ts">
import { ref } from 'vue'
import { answer, client, type Dataset } from '../api/client'
import Question from '../shared/Question.vue'
import { bytes, when } from '../shared/format'
import { useLoading } from '../shared/loading'

/** All datasets, each with its latest snapshot and whether that one's split can be trusted. */
const datasets = ref<Dataset[]>()
const { problem, loader } = useLoading()
const load = loader(async () => {
  const all: Dataset[] = []
  for (let cursor: string | undefined; ;) {
    const page = await answer(client.GET('/api/v1/datasets', { params: { query: { limit: 500, cursor } } }))
    all.push(...(page.items ?? []))
    cursor = page.next
    if (!cursor) break
  }
  datasets.value = all
})
void load()
const words = { trusted: 'no item in two splits', leaking: 'items in two splits', unknown: 'not looked at yet' }
const link = (d: Dataset) => `/data/${d.name}/${d.latest.split('#')[1] ?? ''}`
const says = (n: number) => {
  if (n === 0) return 'None yet.'
  const bad = datasets.value?.filter((d) => d.trust === 'leaking').length ?? 0
  const some = n === 1 ? '1 dataset' : `${n} datasets`
  return bad ? `${some}; the latest snapshot of ${bad} has items of one split in another.` : `${some}.`
}
</script>

<template>
  <main>
    <div class="page-top"><h1>Data</h1></div>
    <p v-if="problem" class="bad page-top" role="alert">{{ problem }}</p>
    <Question v-if="datasets" title="Which data is there?" :says="says(datasets.length)">
      <template #aside>
        <p class="small">
          A snapshot lists items with digest, split, group and label, and never changes. Runs name what they used.
        </p>
      </template>
      <table v-if="datasets.length">
        <thead>
          <tr>
            <th>Latest snapshot</th>
            <th class="n">Snapshots</th>
            <th class="n">Items</th>
            <th class="n">Size</th>
            <th>Split</th>
            <th>Made</th>
            <th>By</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="d in datasets" :key="d.name">
            <td>
              <RouterLink class="mono" :to="link(d)">{{ d.latest }}</RouterLink>
            </td>
            <td class="n">{{ d.snapshots }}</td>
            <td class="n">{{ d.items.toLocaleString('en-GB') }}</td>
            <td class="n">{{ bytes(d.bytes) }}</td>
            <td :class="{ bad: d.trust === 'leaking' }">{{ words[d.trust] }}</td>
            <td class="small">{{ when(d.changed) }}</td>
            <td class="small">{{ d.who }}</td>
          </tr>
        </tbody>
      </table>
      <template v-else>
        <p>A folder of files or a table becomes a snapshot by one command; its questions are answered here.</p>
        <pre class="command">
kembrel data add hydrophone --from clips \
  --split-from-path '(?P&lt;split&gt;train|val|test)/(?P&lt;group&gt;voyage\d+)/(?P&lt;label&gt;[a-z-]+)_.*\.npy'</pre>
      </template>
    </Question>
  </main>
</template>
