<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { answer, client, type Lineage } from '../api/client'
import { download } from '../chart/save'
import FigureHead from '../chart/FigureHead.vue'
import Export from '../shared/Export.vue'
import { linkTo, when } from '../shared/format'
import { useLoading } from '../shared/loading'
import Question from '../shared/Question.vue'
import { beside, place, type Placed } from './layout'

/** Where a snapshot, a run, a checkpoint, an evaluation or an edition comes from, and what uses it. */
const props = defineProps<{ of: string }>()
const lineage = ref<Lineage>()
const picked = ref(0)
const asTable = ref(false)
const svg = ref<SVGSVGElement>()
const scroll = ref<HTMLElement>()
const { problem, loader } = useLoading()
const load = loader(async () => {
  const got = await answer(client.GET('/api/v1/lineage', { params: { query: { of: props.of } } }))
  lineage.value = got
  picked.value = got.of
  await nextTick()
  const here = drawing.value?.nodes[got.of]
  if (here && scroll.value) scroll.value.scrollLeft = here.x - scroll.value.clientWidth / 2
})
watch(() => props.of, load, { immediate: true })
const drawing = computed(() => (lineage.value ? place(lineage.value) : undefined))
const node = computed(() => drawing.value?.nodes[picked.value])
const rows = computed(() => {
  const nodes = drawing.value?.nodes ?? []
  return (lineage.value?.links ?? []).map((l) => [
    nodes[l.from].address,
    l.how,
    l.use ?? '',
    l.data ?? '',
    nodes[l.to].address,
  ])
})
const files = computed(() =>
  ['json', 'n'].map((format) => ({
    label: format === 'n' ? 'PROV-N' : 'PROV-JSON',
    href: `/api/v1/lineage/prov?format=${format}&of=${encodeURIComponent(props.of)}`,
  })),
)
const known = (n: Placed) => n.state !== 'hidden' && n.state !== 'gone'

/** The console's page of a thing. */
function page(n: Placed): string {
  if (n.kind === 'edition') return '/catalogue/' + n.address.replace('#', '/')
  if (n.kind === 'snapshot') return '/data/' + n.address.replace('#', '/')
  const [run, evaluation] = n.address.split('/evaluations/')
  return evaluation ? linkTo(run) + '#evaluations' : linkTo(n.address)
}
function move(e: KeyboardEvent) {
  if (!drawing.value || !e.key.startsWith('Arrow')) return
  e.preventDefault()
  picked.value = beside(drawing.value.nodes, drawing.value.links, picked.value, e.key)
  const to = svg.value?.querySelector<SVGGElement>(`[data-node="${picked.value}"]`)
  to?.focus()
  to?.scrollIntoView({ block: 'nearest', inline: 'nearest' })
}

/** The outline of a thing: its kind is told by its shape. */
function outline(n: Placed): string {
  const [w, h] = [n.width, n.height]
  switch (n.kind) {
    case 'run':
      return `M${h / 2},0H${w - h / 2}A${h / 2},${h / 2} 0 0 1 ${w - h / 2},${h}H${h / 2}A${h / 2},${h / 2} 0 0 1 ${h / 2},0Z`
    case 'checkpoint':
      return `M8,0H${w - 8}L${w},8V${h - 8}L${w - 8},${h}H8L0,${h - 8}V8Z`
    case 'edition':
      return `M0,0H${w - h / 2}L${w},${h / 2}L${w - h / 2},${h}H0Z`
    case 'evaluation':
      return `M0,0H${w}V${h}H0ZM5,0V${h}`
  }
  return `M0,0H${w}V${h}H0ZM4,0V-4H${w + 4}V${h - 4}H${w}`
}
function save(kind: string) {
  const name = `lineage-${props.of.replace(/[^\w.-]/g, '-')}`
  if (kind === 'csv') {
    const text = [['from', 'how', 'use', 'data', 'to'], ...rows.value]
      .map((r) => r.map((c) => (/[",\n]/.test(c) ? `"${c.replaceAll('"', '""')}"` : c)).join(','))
      .join('\n')
    download(`${name}.csv`, new Blob([text + '\n'], { type: 'text/csv' }))
    return
  }
  if (!svg.value) return
  const copy = svg.value.cloneNode(true) as SVGSVGElement
  copy.setAttribute('xmlns', 'http://www.w3.org/2000/svg')
  const from = svg.value.querySelectorAll('path, text')
  copy.querySelectorAll('path, text').forEach((to, i) => {
    const look = getComputedStyle(from[i])
    for (const p of ['fill', 'stroke', 'stroke-width', 'stroke-dasharray', 'font-family', 'font-size', 'text-anchor']) {
      to.setAttribute(p, look.getPropertyValue(p))
    }
  })
  download(`${name}.svg`, new Blob([copy.outerHTML], { type: 'image/svg+xml' }))
}
</script>

<template>
  <main>
    <div class="page-top">
      <h1>
        Lineage of
        <span class="mono">{{ of }}</span>
      </h1>
      <span class="space"></span>
      <Export v-if="lineage" :files="files" />
    </div>
    <p v-if="problem" class="bad page-top" role="alert">{{ problem }}</p>
    <Question v-if="lineage && drawing" title="Where does it come from?" :says="lineage.before">
      <template #aside>
        <h2>What uses it?</h2>
        <p>{{ lineage.after }}</p>
        <div v-if="node" class="picked" aria-live="polite">
          <h2 class="mono">{{ node.address }}</h2>
          <p>{{ [node.kind, node.title].filter(Boolean).join(': ') }}</p>
          <p v-if="node.places?.length">used at {{ node.places.join(', ') }}</p>
          <p v-if="node.state">{{ node.state }}</p>
          <p v-if="node.at" class="small">{{ when(node.at) }}{{ node.who ? `, ${node.who}` : '' }}</p>
          <p v-if="node.more" class="small">and {{ node.more.toLocaleString('en-GB') }} more checkpoints</p>
          <p v-if="known(node)">
            <RouterLink :to="page(node)">open it</RouterLink>
            <template v-if="picked !== lineage.of">
              ·
              <RouterLink :to="{ name: 'lineage', query: { of: node.address } }">its own lineage</RouterLink>
            </template>
          </p>
        </div>
      </template>
      <figure>
        <FigureHead v-model:as-table="asTable" title="What was made with what" :kinds="['svg', 'csv']" @save="save" />
        <div ref="scroll" class="scroll">
          <svg
            ref="svg"
            role="group"
            :aria-label="`${lineage.before} ${lineage.after}`"
            :width="drawing.width + 8"
            :height="drawing.height + 8"
            @keydown="move"
          >
            <defs>
              <marker id="arrow" viewBox="0 0 8 8" refX="8" refY="4" markerWidth="8" markerHeight="8" orient="auto">
                <path d="M0,1L8,4L0,7Z" class="head" />
              </marker>
            </defs>
            <path
              v-for="l in drawing.links"
              :key="`${l.from} ${l.to}`"
              class="link"
              :class="{ on: l.from === picked || l.to === picked }"
              :d="l.path"
              marker-end="url(#arrow)"
            />
            <template v-for="l in drawing.links" :key="`${l.from} ${l.to}`">
              <text v-if="l.label" class="how" :x="l.x" :y="l.y + 4">{{ l.label }}</text>
            </template>
            <g
              v-for="n in drawing.nodes"
              :key="n.index"
              role="button"
              :data-node="n.index"
              :tabindex="n.index === picked ? 0 : -1"
              :aria-description="n.kind"
              :aria-pressed="n.index === picked"
              :class="['node', n.kind, { of: n.index === lineage.of, on: n.index === picked, faint: !known(n) }]"
              :transform="`translate(${n.x - n.width / 2},${n.y - n.height / 2})`"
              @click="picked = n.index"
              @focus="picked = n.index"
            >
              <path :d="outline(n)" />
              <text class="address" :x="n.width / 2" y="18">{{ n.address }}</text>
              <text :x="n.width / 2" y="33">{{ n.second }}</text>
            </g>
          </svg>
        </div>
        <p class="small">
          Arrow keys follow the links. An arrow leads from what was there before to what was made with it.
        </p>
        <table v-if="asTable">
          <thead>
            <tr>
              <th>From</th>
              <th>How</th>
              <th>For</th>
              <th>Data</th>
              <th>To</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(r, i) in rows" :key="i">
              <td v-for="(c, k) in r" :key="k" class="mono">{{ c }}</td>
            </tr>
          </tbody>
        </table>
      </figure>
    </Question>
  </main>
</template>

<style scoped>
h2 {
  font-size: 15px;
  font-weight: 600;
  margin: 18px 0 6px;
  line-height: 1.3;
}
p {
  margin: 0 0 8px;
}
.picked {
  margin-top: 18px;
  padding-top: 14px;
  border-top: 1px solid var(--rule);
  overflow-wrap: anywhere;
}
.picked h2 {
  margin-top: 0;
  font-size: 13px;
  font-weight: 500;
}
h1 .mono {
  font-weight: 500;
}
figure {
  margin: 0;
  min-width: 0;
}
.scroll {
  overflow: auto;
  max-height: 70vh;
  padding: 8px 0;
}
text {
  font: 11px var(--sans);
  fill: var(--ink2);
  text-anchor: middle;
}
.address {
  font: 12px var(--mono);
  fill: var(--ink);
}
.link {
  fill: none;
  stroke: var(--rule2);
  stroke-width: 1.3;
}
.head {
  fill: var(--ink3);
}
.link.on {
  stroke: var(--accent);
}
.how {
  stroke: var(--paper);
  stroke-width: 4px;
  paint-order: stroke;
}
.node {
  cursor: pointer;
  outline: none;
}
.node path {
  fill: var(--sheet);
  stroke: var(--ink3);
}
.node.of path {
  fill: var(--accent2);
}
.node.on path {
  stroke: var(--accent);
  stroke-width: 2;
}
.node:focus-visible path {
  stroke-width: 3;
}
.node.faint path {
  stroke-dasharray: 3 3;
}
</style>
