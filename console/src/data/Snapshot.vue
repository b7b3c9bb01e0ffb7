<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import { computed, onUnmounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { answer, client, type Snapshot, type SnapshotDifference } from '../api/client'
import LineageLink from '../shared/LineageLink.vue'
import Question from '../shared/Question.vue'
import { setTitle } from '../shared/arriving'
import Items from './Items.vue'
import ShareBar from './ShareBar.vue'
import { bytes, linkTo, number, when } from '../shared/format'
import { useLoading } from '../shared/loading'

/** A snapshot of a dataset under the questions that are asked of it. */
const props = defineProps<{ dataset: string; at: number }>()
const router = useRouter()
const snapshot = ref<Snapshot>()
const others = ref<Snapshot[]>([])
const difference = ref<SnapshotDifference>()
const items = ref<InstanceType<typeof Items>>()
const { problem, loader } = useLoading()
const path = computed(() => ({ dataset: props.dataset, number: props.at }))
let again: ReturnType<typeof setTimeout> | undefined
const load = loader(async () => {
  const got = await answer(
    client.GET('/api/v1/datasets/{dataset}/snapshots/{number}', { params: { path: path.value } }),
  )
  snapshot.value = got
  setTitle(got.address)
  if (got.state === 'looking') again = setTimeout(() => void load(), 1000)
})
const loadOthers = loader(async () => {
  const page = await answer(
    client.GET('/api/v1/datasets/{dataset}/snapshots', {
      params: { path: { dataset: props.dataset }, query: { limit: 200 } },
    }),
  )
  others.value = page.items ?? []
})
const compare = loader(async () => {
  difference.value = await answer(
    client.GET('/api/v1/datasets/{dataset}/snapshots/{number}/difference', { params: { path: path.value } }),
  )
})
watch(
  path,
  () => {
    difference.value = undefined
    void load()
    void loadOthers()
  },
  { immediate: true },
)
onUnmounted(() => clearTimeout(again))

const found = computed(() => snapshot.value?.found)
const splits = computed(() => (found.value?.splits ?? []).filter((s) => s.name))
const kinds: Record<string, string> = {
  'same-bytes': 'the same bytes',
  'same-group': 'the same group',
  'nearly-same': 'nearly the same',
  'same-item': 'handed over for both',
  'same-name': 'the same name',
  empty: 'no bytes',
  blank: 'all bytes the same',
  'no-label': 'no label',
  double: 'in its split already',
  'two-labels': 'under two labels',
  'far-off': 'a size far off',
  'no-split': 'in no split',
}
const count = (n: number) => n.toLocaleString('en-GB')
const made = computed(() => {
  const s = snapshot.value
  if (!s) return ''
  const from = s.source
  if (from.kind === 'changes') return `from ${s.base ?? ''} with the changes of ${from.name ?? ''}`
  return `from the ${from.kind} ${from.name ?? ''}${from.host ? ` on ${from.host}` : ''}`
})
const changes = computed(() => {
  const d = difference.value
  if (!d) return []
  return Object.entries(d.counts).map(([change, n]) => ({
    change,
    n,
    by: (change === 'moved' ? d.by_split : d.by_label)[change]?.slice(0, 3) ?? [],
    first: d.examples[change]?.[0] ?? '',
  }))
})
const choose = (n: number) => router.push(`/data/${props.dataset}/${n}`)
function list(where: string) {
  void items.value?.ask(where)
}
</script>

<template>
  <main>
    <div class="page-top">
      <h1>
        {{ dataset }}
        <span v-if="snapshot" class="mono number">#{{ snapshot.number }}</span>
      </h1>
      <span class="space"></span>
      <ElSelect
        v-if="others.length > 1 && snapshot"
        :model-value="snapshot.number"
        size="small"
        aria-label="Snapshot"
        class="choice"
        @update:model-value="choose"
      >
        <ElOption v-for="o in others" :key="o.number" :value="o.number" :label="`#${o.number} · ${when(o.created)}`" />
      </ElSelect>
    </div>
    <p v-if="problem" class="bad page-top" role="alert">{{ problem }}</p>
    <template v-if="snapshot">
      <p class="small facts">
        {{ count(snapshot.items) }} items{{ snapshot.bytes ? `, ${bytes(snapshot.bytes)}` : '' }}; bytes of
        {{ count(snapshot.kept) }} kept; made {{ when(snapshot.created) }} by {{ snapshot.who }} {{ made }}
      </p>
      <Question title="Can the validation figure be trusted?" :says="snapshot.answers?.trust">
        <table v-if="found?.crossings?.length" class="narrow">
          <thead>
            <tr>
              <th>In two splits</th>
              <th>Splits</th>
              <th class="n">Shared</th>
              <th class="n">Items</th>
              <th><span class="visually-hidden">List</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="c in found.crossings" :key="c.kind + c.splits?.join()">
              <td>{{ kinds[c.kind] }}</td>
              <td>{{ c.splits?.join(' and ') }}</td>
              <td class="n">{{ count(c.shared) }}</td>
              <td class="n">{{ c.items?.map(count).join(' + ') }}</td>
              <td>
                <button type="button" class="link" @click="list(`&quot;${c.kind}&quot; in found`)">list them</button>
              </td>
            </tr>
          </tbody>
        </table>
        <table v-if="splits.length" class="narrow bars">
          <thead>
            <tr>
              <th>Split</th>
              <th class="n">Items</th>
              <th class="n">Groups</th>
              <th class="wide">Share that another split has too</th>
              <th class="n">Per cent</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(s, i) in splits" :key="s.name">
              <td>{{ s.name }}</td>
              <td class="n">{{ count(s.items) }}</td>
              <td class="n">{{ found?.grouped ? count(s.groups) : '' }}</td>
              <td><ShareBar :share="s.items ? s.leaking / s.items : 0" :bad="i > 0" /></td>
              <td class="n">{{ s.items ? ((100 * s.leaking) / s.items).toFixed(0) : 0 }}</td>
            </tr>
          </tbody>
        </table>
      </Question>
      <Question title="Is it clean?" :says="snapshot.answers?.clean">
        <table v-if="found?.tallies?.length" class="narrow">
          <tbody>
            <tr v-for="t in found.tallies" :key="t.kind">
              <td>{{ kinds[t.kind] }}</td>
              <td class="n">{{ count(t.items) }}</td>
              <td>
                <button type="button" class="link" @click="list(`&quot;${t.kind}&quot; in found`)">list them</button>
              </td>
            </tr>
          </tbody>
        </table>
      </Question>
      <Question title="Are the splits alike?" :says="snapshot.answers?.alike">
        <table v-if="found?.labels?.length" class="narrow">
          <thead>
            <tr>
              <th>Label</th>
              <template v-for="s in found.splits ?? []" :key="s.name">
                <th class="n">{{ s.name || 'no split' }}</th>
                <th class="share"><span class="visually-hidden">Share</span></th>
              </template>
            </tr>
          </thead>
          <tbody>
            <tr v-for="l in found.labels.slice(0, 30)" :key="l.label">
              <td>
                <button type="button" class="link" @click="list(`&quot;${l.label}&quot; in labels`)">
                  {{ l.label }}
                </button>
              </td>
              <template v-for="(s, i) in found.splits ?? []" :key="s.name">
                <td class="n">{{ count(l.items?.[i] ?? 0) }}</td>
                <td><ShareBar :share="s.items ? (l.items?.[i] ?? 0) / s.items : 0" /></td>
              </template>
            </tr>
          </tbody>
        </table>
        <p v-if="found && (found.labels?.length ?? 0) > 30" class="small">
          and {{ (found.labels?.length ?? 0) - 30 + found.others }} more labels
        </p>
      </Question>
      <Question title="What changed since the one before?" :says="snapshot.answers?.changed">
        <template v-if="snapshot.number > 1">
          <button v-if="!difference" type="button" class="link" @click="compare">show what changed</button>
          <table v-else-if="changes.length" class="narrow">
            <thead>
              <tr>
                <th>Change</th>
                <th class="n">Items</th>
                <th>Most</th>
                <th>First</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="c in changes" :key="c.change">
                <td>{{ c.change }}</td>
                <td class="n">{{ count(c.n) }}</td>
                <td>{{ c.by.map((b) => `${b.name} ${count(b.items)}`).join(', ') }}</td>
                <td class="mono">{{ c.first }}</td>
              </tr>
            </tbody>
          </table>
        </template>
      </Question>
      <Question title="Who used it?" :says="snapshot.answers?.used">
        <template #aside><LineageLink :of="snapshot.address" /></template>
        <table v-if="snapshot.users?.length" class="narrow">
          <thead>
            <tr>
              <th>Run</th>
              <th>Title</th>
              <th>For</th>
              <th>Split</th>
              <th>State</th>
              <th>Started</th>
              <th>By</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="u in snapshot.users.slice(0, 20)" :key="u.run + u.use">
              <td>
                <RouterLink class="mono" :to="linkTo(u.run)">{{ u.run }}</RouterLink>
              </td>
              <td>{{ u.title }}</td>
              <td>{{ u.use }}</td>
              <td>{{ u.split }}</td>
              <td>{{ u.state }}</td>
              <td class="small">{{ when(u.started) }}</td>
              <td class="small">{{ u.who }}</td>
            </tr>
          </tbody>
        </table>
        <p v-else class="small">
          A run names its data:
          <span class="mono">kembrel record --data val={{ snapshot.address }}:val</span>
        </p>
      </Question>
      <Question title="How often was the test split looked at?" :says="snapshot.answers?.looked">
        <table v-if="snapshot.ledger?.looked?.length" class="narrow">
          <thead>
            <tr>
              <th>Run</th>
              <th>Curve</th>
              <th class="n">Looks</th>
              <th class="n">Best</th>
              <th class="n">Last</th>
              <th>When</th>
              <th>By</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(l, i) in snapshot.ledger.looked.slice(0, 20)" :key="i">
              <td>
                <RouterLink v-if="l.run" class="mono" :to="linkTo(l.run)">{{ l.run }}</RouterLink>
                <span v-else class="small">a run that you do not see</span>
              </td>
              <td class="mono">{{ l.curve }}</td>
              <td class="n">{{ count(l.looks) }}</td>
              <td class="n">{{ number(l.best) }}</td>
              <td class="n">{{ number(l.last) }}</td>
              <td class="small">{{ when(l.latest) }}</td>
              <td class="small">{{ l.who }}</td>
            </tr>
          </tbody>
        </table>
      </Question>
      <Items ref="items" :snapshot="snapshot" />
    </template>
  </main>
</template>

<style scoped>
.number {
  font-size: 18px;
  color: var(--ink2);
}
.choice {
  width: 210px;
}
.facts {
  padding: 0 24px 14px;
  margin: 0;
}
.narrow {
  width: auto;
  min-width: 50%;
}
table + .bars {
  margin-top: 16px;
}
.wide {
  width: 260px;
}
.share {
  width: 90px;
}
</style>
