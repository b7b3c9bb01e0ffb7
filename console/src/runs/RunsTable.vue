<script setup lang="ts">
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import type { Run } from '../api/client'
import Sketch from '../chart/Sketch.vue'
import StateMark from '../shared/StateMark.vue'
import { useMay } from '../shared/may'
import { colourOf } from '../shared/tray'
import { toNumber } from '../shared/format'
import { cellText, sortOf, type Column } from '../shared/columns'

/** The table of runs: of any length, only the rows in view are drawn. */
const props = defineProps<{
  project: string
  columns: Column[]
  values: string[]
  total: number
  row: (i: number) => Run | undefined
  sort: string
  order: string
  lower: boolean
  tray: number[]
  now: number
  titleWidth: number
}>()
const emit = defineEmits<{
  view: [from: number, to: number]
  sort: [what: string]
  toggle: [number: number]
  width: [column: number, width: number]
  edit: [run: Run, what: 'title' | 'tags' | 'note', text: string]
}>()

const rowHeight = 30
const spare = 12
const router = useRouter()
const scroller = ref<HTMLElement>()
const top = ref(0)
const height = ref(600)
const active = ref(0)

const first = computed(() => Math.max(0, Math.floor(top.value / rowHeight) - spare))
const last = computed(() => Math.min(props.total, Math.ceil((top.value + height.value) / rowHeight) + spare))
const rows = computed(() =>
  Array.from({ length: Math.max(0, last.value - first.value) }, (_, k) => ({
    i: first.value + k,
    run: props.row(first.value + k),
  })),
)
const width = computed(() => props.titleWidth + props.columns.reduce((sum, c) => sum + c.width, 0) + 48)

let waiting = 0
watch([first, last], () => {
  clearTimeout(waiting)
  waiting = window.setTimeout(() => {
    emit('view', first.value, last.value)
  }, 40)
})
const scrolled = () => (top.value = scroller.value?.scrollTop ?? 0)
const resize = new ResizeObserver(() => (height.value = scroller.value?.clientHeight ?? 600))
onMounted(() => {
  if (scroller.value) resize.observe(scroller.value)
  emit('view', first.value, last.value)
})
onBeforeUnmount(() => {
  resize.disconnect()
})

/** Where the list stands, and moving it without a jump when rows come in above. */
function shift(by: number) {
  const s = scroller.value
  if (s && s.scrollTop > 0) s.scrollTop += by * rowHeight
  active.value = Math.max(0, active.value + by)
}
function toTop() {
  if (scroller.value) scroller.value.scrollTop = 0
  active.value = 0
}
const range = () => ({ from: first.value, to: last.value, atTop: top.value < rowHeight })
defineExpose({ shift, toTop, range })

async function go(to: number) {
  active.value = Math.min(props.total - 1, Math.max(0, to))
  const s = scroller.value
  if (!s) return
  const y = active.value * rowHeight
  const head = 31
  if (y < s.scrollTop) s.scrollTop = y
  else if (y + rowHeight > s.scrollTop + s.clientHeight - head) s.scrollTop = y + rowHeight - s.clientHeight + head
  scrolled()
  await nextTick()
  s.querySelector<HTMLElement>(`[data-row="${active.value}"]`)?.focus({ preventScroll: true })
}

function keys(e: KeyboardEvent) {
  if (e.ctrlKey || e.metaKey || e.altKey || editing.value) return
  if ((e.target as HTMLElement).tagName !== 'TR') return
  const page = Math.max(1, Math.floor(height.value / rowHeight) - 2)
  const run = props.row(active.value)
  const act: Record<string, () => void> = {
    ArrowDown: () => void go(active.value + 1),
    ArrowUp: () => void go(active.value - 1),
    PageDown: () => void go(active.value + page),
    PageUp: () => void go(active.value - page),
    Home: () => void go(0),
    End: () => void go(props.total - 1),
    ' ': () => run && emit('toggle', run.number),
    x: () => run && emit('toggle', run.number),
    Enter: () => run && void router.push({ name: 'run', params: { project: props.project, number: run.number } }),
    e: () => run && edit(run, 'title'),
  }
  if (!act[e.key]) return
  e.preventDefault()
  act[e.key]()
}

/** The cell being written in. */
const editing = ref<{ number: number; what: 'title' | 'tags' | 'note'; text: string } | null>(null)
const { may } = useMay(props.project)
function edit(run: Run, what: 'title' | 'tags' | 'note') {
  if (!may('member', run.who)) return
  const text = what === 'tags' ? (run.tags ?? []).join(', ') : ((what === 'title' ? run.title : run.note) ?? '')
  editing.value = { number: run.number, what, text }
  void nextTick(() => scroller.value?.querySelector<HTMLInputElement>('input.cell')?.select())
}
function save(run: Run) {
  const e = editing.value
  editing.value = null
  if (e && e.number === run.number) emit('edit', run, e.what, e.text)
  void nextTick(() => void go(active.value))
}
function leave() {
  editing.value = null
  void nextTick(() => void go(active.value))
}
const editable = (what: string): what is 'tags' | 'note' => what === 'tags' || what === 'note'
const isEdited = (run: Run, what: string) => editing.value?.number === run.number && editing.value.what === what

function direction(what: string): 'ascending' | 'descending' | 'none' {
  const by = sortOf(what)
  if (!by || by !== props.sort) return 'none'
  if (props.order) return props.order as 'ascending' | 'descending'
  return (by === 'best' || by === 'last') && !props.lower ? 'descending' : 'ascending'
}
const arrow = { ascending: '↑', descending: '↓', none: '' }

function drag(e: PointerEvent, i: number) {
  const from = e.clientX
  const before = props.columns[i].width
  const handle = e.currentTarget as HTMLElement
  handle.setPointerCapture(e.pointerId)
  const move = (m: PointerEvent) => {
    emit('width', i, Math.max(narrowest, before + m.clientX - from))
  }
  const up = () => {
    handle.removeEventListener('pointermove', move)
    handle.removeEventListener('pointerup', up)
  }
  handle.addEventListener('pointermove', move)
  handle.addEventListener('pointerup', up)
}
/** The head that Tab leads to, from -1 for the run's; arrows lead to the others, and with Shift change a column's width. */
const head = ref(-1)
const reach = computed(() => (head.value < props.columns.length ? head.value : -1))
const said = ref('')
const narrowest = 40
function headKeys(e: KeyboardEvent, i: number) {
  const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key]
  if (!by || e.ctrlKey || e.metaKey || e.altKey) return
  e.preventDefault()
  if (!e.shiftKey) {
    head.value = Math.min(props.columns.length - 1, Math.max(-1, i + by))
    void nextTick(() => scroller.value?.querySelector<HTMLElement>(`[data-head="${head.value}"]`)?.focus())
  } else if (i >= 0) {
    const wide = Math.max(narrowest, props.columns[i].width + 8 * by)
    emit('width', i, wide)
    said.value = `${props.columns[i].label}: ${wide} pixels wide`
  }
}
const trayColour = (n: number) => {
  const i = props.tray.indexOf(n)
  return i < 0 ? undefined : colourOf(i)
}
const notFinite = (r: Run) => !!r.last && !Number.isFinite(toNumber(r.last.value))
</script>

<template>
  <div ref="scroller" class="scroller" @scroll.passive="scrolled" @keydown="keys">
    <table
      role="grid"
      aria-label="Runs"
      :aria-rowcount="total + 1"
      aria-multiselectable="true"
      :style="{ width: width + 'px' }"
    >
      <colgroup>
        <col :style="{ width: titleWidth + 24 + 'px' }" />
        <col v-for="c in columns" :key="c.what" :style="{ width: c.width + 'px' }" />
        <col />
      </colgroup>
      <thead>
        <tr aria-rowindex="1">
          <th scope="col" :aria-sort="direction('number')">
            <button
              type="button"
              data-head="-1"
              :tabindex="reach === -1 ? 0 : -1"
              :class="{ on: sort === 'number' }"
              @click="emit('sort', 'number')"
              @focus="head = -1"
              @keydown="headKeys($event, -1)"
            >
              Run
              <span aria-hidden="true">{{ arrow[direction('number')] }}</span>
            </button>
          </th>
          <th
            v-for="(c, i) in columns"
            :key="c.what"
            scope="col"
            :class="{ n: c.numeric }"
            :aria-sort="sortOf(c.what) ? direction(c.what) : undefined"
            :title="c.what"
          >
            <button
              v-if="sortOf(c.what)"
              type="button"
              :data-head="i"
              :tabindex="reach === i ? 0 : -1"
              aria-description="Shift with the left or right arrow changes its width"
              :class="{ on: direction(c.what) !== 'none' }"
              @click="emit('sort', sortOf(c.what))"
              @focus="head = i"
              @keydown="headKeys($event, i)"
            >
              {{ c.label }}
              <span aria-hidden="true">{{ arrow[direction(c.what)] }}</span>
            </button>
            <span
              v-else
              :data-head="i"
              :tabindex="reach === i ? 0 : -1"
              aria-description="Shift with the left or right arrow changes its width"
              @focus="head = i"
              @keydown="headKeys($event, i)"
            >
              {{ c.label }}
            </span>
            <span class="edge" aria-hidden="true" @pointerdown.prevent="drag($event, i)"></span>
          </th>
          <td class="rest" role="presentation"></td>
        </tr>
      </thead>
      <tbody>
        <tr v-if="first > 0" class="gap" role="presentation" :style="{ height: first * rowHeight + 'px' }"></tr>
        <tr
          v-for="{ i, run } in rows"
          :key="i"
          :data-row="i"
          :aria-rowindex="i + 2"
          :aria-selected="run ? tray.includes(run.number) : false"
          :tabindex="i === active || (i === first && (active < first || active >= last)) ? 0 : -1"
          :class="{ put: run && tray.includes(run.number) }"
          @focus="active = i"
        >
          <template v-if="run">
            <td class="name" @dblclick="edit(run, 'title')">
              <input
                v-if="isEdited(run, 'title')"
                v-model="editing!.text"
                class="cell"
                aria-label="Title"
                @keydown.enter.prevent.stop="save(run)"
                @keydown.esc.stop="leave"
                @blur="leave"
              />
              <RouterLink
                v-else
                tabindex="-1"
                :to="{ name: 'run', params: { project, number: run.number } }"
                :title="run.title"
              >
                <span class="mono">{{ run.number }}</span>
                <b
                  v-if="run.alarms?.length"
                  class="bad"
                  role="img"
                  aria-label="alarm"
                  :title="`Its predictions raise an alarm: ${run.alarms.join(', ')}`"
                >
                  &#160;!
                </b>
                &#160;{{ run.title || run.address }}
              </RouterLink>
              <span v-if="run.delete_at" class="small bad">&#160;to be deleted</span>
            </td>
            <td
              v-for="c in columns"
              :key="c.what"
              :class="{
                n: c.numeric,
                sketch: c.what === 'curve',
                bad:
                  (c.what === 'last' && notFinite(run)) || (c.what === 'verdict' && run.verdict?.kind === 'diverged'),
                dispute: c.what === 'verdict' && run.verdict?.dispute,
                small: c.what === 'started' || c.what === 'place',
                mono: c.what === 'place',
              }"
              :title="c.what === 'verdict' ? run.verdict?.said : c.what === 'note' ? run.note : undefined"
              @dblclick="editable(c.what) && edit(run, c.what)"
            >
              <Sketch v-if="c.what === 'curve'" :run="run" :colour="trayColour(run.number)" />
              <StateMark v-else-if="c.what === 'state'" :state="run.state" />
              <input
                v-else-if="editable(c.what) && isEdited(run, c.what)"
                v-model="editing!.text"
                class="cell"
                :aria-label="c.label"
                @keydown.enter.prevent.stop="save(run)"
                @keydown.esc.stop="leave"
                @blur="leave"
              />
              <template v-else>{{ cellText(c, run, values, now) }}</template>
            </td>
            <td class="rest"></td>
          </template>
          <td v-else :colspan="columns.length + 2" class="small">…</td>
        </tr>
        <tr
          v-if="last < total"
          class="gap"
          role="presentation"
          :style="{ height: (total - last) * rowHeight + 'px' }"
        ></tr>
      </tbody>
    </table>
    <span class="visually-hidden" aria-live="polite">{{ said }}</span>
  </div>
</template>

<style scoped>
.scroller {
  overflow: auto;
  flex: 1;
  min-height: 120px;
}
table {
  table-layout: fixed;
  min-width: 100%;
}
thead th,
thead td {
  position: sticky;
  top: 0;
  z-index: 1;
  background: var(--paper);
  padding: 6px 14px 6px 0;
  overflow: hidden;
  text-overflow: ellipsis;
  border-bottom: 1px solid var(--rule2);
}
tbody tr {
  height: 30px;
}
td {
  padding: 0 14px 0 0;
  height: 30px;
  overflow: hidden;
  text-overflow: ellipsis;
}
td:first-child,
th:first-child {
  padding-left: 24px;
}
td.name a {
  color: var(--ink);
}
th button {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
  max-width: 100%;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
th button.on {
  color: var(--ink);
  font-weight: 600;
}
.edge {
  position: absolute;
  right: 2px;
  top: 6px;
  bottom: 6px;
  width: 7px;
  cursor: col-resize;
  border-right: 1px solid transparent;
}
th:hover .edge,
th:focus-within .edge {
  border-color: var(--rule2);
}
tbody tr:hover td,
tr.put td {
  background: var(--accent2);
}
tr.gap td,
tr.gap {
  border: 0;
}
tbody tr:focus-visible {
  outline: 2px solid var(--accent);
  outline-offset: -2px;
}
.dispute {
  text-decoration: line-through;
}
input.cell {
  width: 100%;
  font: inherit;
  color: var(--ink);
  background: var(--sheet);
  border: 1px solid var(--accent);
  border-radius: 3px;
  padding: 2px 5px;
}
</style>
