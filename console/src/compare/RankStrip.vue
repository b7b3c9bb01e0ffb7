<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import type { RunGroup } from '../api/client'
import { shortNumber, ticks } from '../chart/lines'
import { number, toNumber } from '../shared/format'
import { lookOf } from './looks'

/** Groups in their order, each with the best figures of its runs on a shared axis; the mean as a stroke. */
const props = defineProps<{ groups: RunGroup[]; project: string; figure: string; baseline: number }>()
const host = ref<HTMLElement>()
const width = ref(640)
const resize = new ResizeObserver(() => (width.value = Math.max(200, host.value?.clientWidth ?? 640)))
onMounted(() => {
  if (host.value) resize.observe(host.value)
})
onBeforeUnmount(() => {
  resize.disconnect()
})

const rowHeight = 30
const finite = computed(() => props.groups.flatMap((g) => g.best.values.map(Number).filter(Number.isFinite)))
const range = computed(() => {
  let low = Math.min(...finite.value)
  let high = Math.max(...finite.value)
  if (!(high > low)) {
    const half = Math.max(Math.abs(low) / 10, 1e-9)
    low -= half
    high += half
  }
  const margin = (high - low) * 0.05
  return { low: low - margin, high: high + margin }
})
const x = (v: number) => 6 + ((v - range.value.low) / (range.value.high - range.value.low)) * (width.value - 12)
const marks = computed(() => ticks(range.value.low, range.value.high, Math.max(2, Math.floor(width.value / 110))))
const rows = computed(() =>
  props.groups.map((g, i) => {
    const values = g.best.values.map(Number).filter(Number.isFinite)
    return {
      g,
      values,
      colour: `var(${lookOf(i).colour})`,
      mean: toNumber(g.best.mean),
      from: Math.min(...values),
      to: Math.max(...values),
      count: g.runs.length === 1 ? '1 run' : `${g.best.count} ${g.best.count === 1 ? 'run' : 'seeds'}`,
    }
  }),
)
const end = computed(() => rows.value.length * rowHeight)
</script>

<template>
  <div class="strip">
    <ol class="names">
      <li
        v-for="(r, i) in rows"
        :key="i"
        :class="{ first: i === 0 }"
        :title="r.g.runs.map((n) => `${project}/${n}`).join(', ')"
      >
        <span class="rank">{{ i + 1 }}</span>
        <RouterLink v-if="r.g.runs.length === 1" :to="{ name: 'run', params: { project, number: r.g.runs[0] } }">
          {{ r.g.label }}
        </RouterLink>
        <template v-else>{{ r.g.label }}</template>
        <span v-if="baseline && r.g.runs.includes(baseline)" class="small">&#160;baseline</span>
      </li>
    </ol>
    <div ref="host" class="drawing">
      <svg
        v-if="finite.length"
        :width="width"
        :height="end + 22"
        role="img"
        :aria-label="`best ${figure} of each setting: ${rows.map((r) => `${r.g.label} ${number(r.g.best.mean)}`).join('; ')}`"
      >
        <g v-for="m in marks" :key="m">
          <path :d="`M${x(m)} 0V${end}`" stroke="var(--rule)" />
          <text :x="x(m)" :y="end + 16" text-anchor="middle" class="tick">{{ shortNumber(m) }}</text>
        </g>
        <g v-for="(r, i) in rows" :key="i" :transform="`translate(0 ${(i + 0.5) * rowHeight})`">
          <template v-if="r.values.length">
            <path
              v-if="r.values.length > 1"
              :d="`M${x(r.from)} 0H${x(r.to)}`"
              :stroke="r.colour"
              stroke-width="7"
              opacity="0.25"
            />
            <circle
              v-for="(v, k) in r.values"
              :key="k"
              :cx="x(v)"
              r="3.4"
              fill="var(--paper)"
              :stroke="r.colour"
              stroke-width="1.7"
            />
            <path v-if="r.values.length > 1" :d="`M${x(r.mean)} -7V7`" :stroke="r.colour" stroke-width="2.6" />
          </template>
        </g>
      </svg>
    </div>
    <ul class="figures">
      <li v-for="(r, i) in rows" :key="i">
        <span class="small">{{ r.count }}</span>
        <span class="mono" :class="{ first: i === 0 }">{{ number(r.g.best.mean) }}</span>
      </li>
      <li class="small foot">best {{ figure }}</li>
    </ul>
  </div>
</template>

<style scoped>
.strip {
  display: grid;
  grid-template-columns: 230px minmax(200px, 1fr) 130px;
  gap: 10px;
}
ol,
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  height: 30px;
  line-height: 30px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.names a {
  color: var(--ink);
}
.first {
  font-weight: 600;
}
.rank {
  font-family: var(--mono);
  font-size: 12px;
  display: inline-block;
  min-width: 20px;
}
.figures li {
  display: flex;
  justify-content: space-between;
}
.figures .foot {
  justify-content: flex-end;
  line-height: 20px;
}
.tick {
  font: 11px var(--mono);
  fill: var(--ink2);
}
svg {
  display: block;
}
</style>
