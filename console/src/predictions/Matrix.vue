<script setup lang="ts">
import { computed } from 'vue'
import type { SheetDetail } from '../api/client'
import { whereOf } from './answers'

/**
 * What is taken for what: a row a true class, a column an answer; of several labels what is missed and what is added. A
 * cell is chosen by click or arrow keys; it is told by the condition that lists its examples.
 */
const props = defineProps<{ sheet: SheetDetail; chosen?: string; shares?: boolean }>()
const emit = defineEmits<{ choose: [where: string] }>()
/** Of more classes than these the pairs are listed instead. */
const most = 40

/** Nothing answered, nothing true: where there is such a cell. */
const nothing = computed(() => (props.sheet.assessed.cells ?? []).some((c) => c.p < 0 || c.t < 0))
const names = computed(() => [...(props.sheet.classes ?? []), ...(nothing.value ? ['nothing'] : [])])
const name = (i: number) => props.sheet.classes?.[i] ?? ''
const several = computed(() => props.sheet.task === 'labels')
const asShares = computed(() => props.shares || props.sheet.task === 'masks')
const size = computed(() => Math.max(14, Math.min(45, Math.floor(560 / Math.max(1, names.value.length)))))
const left = computed(() => Math.min(150, 16 + 6.6 * Math.max(0, ...names.value.map((n) => n.length))))
/** Names stand upright, a line a word, where their words are narrower than a cell. */
const words = computed(() => names.value.map((n) => n.split(' ')))
const steep = computed(() => words.value.some((w) => w.length > 2 || w.some((x) => x.length * 6.2 > size.value)))
const head = computed(() =>
  steep.value ? Math.min(110, 12 + 5 * Math.max(0, ...names.value.map((n) => n.length))) : 34,
)
const cells = computed(() => {
  const counts = new Map<string, number>()
  const k = props.sheet.classes?.length ?? 0
  const place = (c: number) => (c < 0 ? k : c)
  for (const c of props.sheet.assessed.cells ?? []) counts.set(`${place(c.t)},${place(c.p)}`, c.n)
  return names.value.flatMap((t, i) => {
    const all = props.sheet.assessed.classes?.[i]?.true ?? props.sheet.labelled
    return names.value.map((p, j) => {
      const n = counts.get(`${i},${j}`) ?? 0
      const share = all ? n / all : 0
      const text = n ? (asShares.value ? share.toFixed(2) : String(n)) : ''
      const where = i === k && j === k ? '' : whereOf(props.sheet.task, name(i), name(j))
      return { t, p, i, j, n, share, right: i === j, text, where, says: say(t, p, n, i === j) }
    })
  })
})
const unit = computed(() => (props.sheet.task === 'masks' ? ' pixels' : ''))
function say(t: string, p: string, n: number, right: boolean) {
  const count = n.toLocaleString('en-GB') + unit.value
  if (several.value && right) return `${t} found: ${count}`
  return several.value ? `${t} missed, ${p} added: ${count}` : `${t} answered as ${p}: ${count}`
}
const at = computed(() => cells.value.find((c) => c.where && c.where === props.chosen))
function move(e: KeyboardEvent) {
  const by: Partial<Record<string, [number, number]>> = {
    ArrowUp: [-1, 0],
    ArrowDown: [1, 0],
    ArrowLeft: [0, -1],
    ArrowRight: [0, 1],
  }
  const d = by[e.key]
  if (!d) return
  e.preventDefault()
  const k = names.value.length
  const i = Math.min(k - 1, Math.max(0, (at.value?.i ?? 0) + d[0]))
  const j = Math.min(k - 1, Math.max(0, (at.value?.j ?? 0) + d[1]))
  choose(cells.value[i * k + j]?.where)
}
const choose = (where?: string) => {
  if (where) emit('choose', where)
}
const label = computed(() => at.value?.says ?? 'What is taken for what; arrow keys choose a cell')
</script>

<template>
  <p v-if="names.length > most" class="small">
    {{ names.length }} classes are too many to draw; the pairs are listed, and
    <span class="mono">kembrel confusion --output csv</span>
    writes all.
  </p>
  <svg
    v-else
    :width="left + names.length * size + (steep ? 44 : 2)"
    :height="head + names.length * size + 6"
    tabindex="0"
    role="application"
    :aria-label="label"
    @keydown="move"
  >
    <g v-for="(n, j) in names" :key="n">
      <text
        v-if="steep"
        :transform="`translate(${left + j * size + size / 2 + 4},${head - 6}) rotate(-45)`"
        class="name"
      >
        {{ n }}
      </text>
      <text
        v-for="(w, l) in steep ? [] : words[j]"
        :key="w"
        :x="left + j * size + size / 2"
        :y="head - 8 - 12 * ((words[j]?.length ?? 1) - 1 - l)"
        text-anchor="middle"
        class="name"
      >
        {{ w }}
      </text>
      <text :x="left - 8" :y="head + j * size + size / 2 + 4" text-anchor="end" class="true">{{ n }}</text>
    </g>
    <g v-for="c in cells" :key="`${c.i},${c.j}`" class="cell" @click="choose(c.where)">
      <title>{{ c.says }} ({{ (100 * c.share).toFixed(1) }} %)</title>
      <rect
        :x="left + c.j * size + 1"
        :y="head + c.i * size + 1"
        :width="size - 2"
        :height="size - 2"
        :fill="c.right ? 'var(--accent)' : 'var(--c2)'"
        :opacity="c.n ? (c.right ? 0.1 + 0.3 * c.share : Math.min(0.8, 0.06 + c.share * 3.2)) : 0.04"
      />
      <text
        v-if="size >= 22"
        :x="left + c.j * size + size / 2"
        :y="head + c.i * size + size / 2 + 4"
        text-anchor="middle"
        class="mono count"
      >
        {{ c.text }}
      </text>
    </g>
    <rect
      v-if="at"
      :x="left + at.j * size"
      :y="head + at.i * size"
      :width="size"
      :height="size"
      fill="none"
      stroke="var(--ink)"
      stroke-width="1.5"
      pointer-events="none"
    />
  </svg>
</template>

<style scoped>
svg {
  display: block;
}
.name {
  font-size: 11px;
  fill: var(--ink2);
}
.true {
  font-size: 12px;
  fill: var(--ink);
}
.count {
  font-size: 12px;
  fill: var(--ink);
  pointer-events: none;
}
.cell {
  cursor: pointer;
}
</style>
