<script setup lang="ts">
import { computed } from 'vue'
import type { Mattered } from '../api/client'
import { number, toNumber } from '../shared/format'
import { effectsOf, type Effect } from './effects'

/**
 * The figure against each hyperparameter that mattered: the runs as points, what the forest predicts as a line, the interval
 * of its trees as a band; over words as bars of an interval.
 */
const props = defineProps<{ project: string; mattered: Mattered }>()
const width = 300
const height = 178
const left = 46
const right = 8
const top = 10
const bottom = 24
const effects = computed(() => effectsOf(props.mattered))
const range = computed(() => effects.value.range)
const y = (v: number) =>
  top + (height - top - bottom) * (1 - (v - range.value[0]) / Math.max(1e-300, range.value[1] - range.value[0]))
const x = (e: Effect, at: number) => left + 6 + (width - left - right - 12) * e.scale(at)
const line = (e: Effect) => e.places.map((p, i) => `${i ? 'L' : 'M'}${x(e, p.at)} ${y(p.mean)}`).join('')
const band = (e: Effect) =>
  e.places.map((p, i) => `${i ? 'L' : 'M'}${x(e, p.at)} ${y(p.high)}`).join('') +
  [...e.places]
    .reverse()
    .map((p) => `L${x(e, p.at)} ${y(p.low)}`)
    .join('') +
  'Z'
const strength = (e: Effect) => {
  const i = e.influence
  const parts = [`${Math.round(toNumber(i.importance) * 1000) / 1000} of the variance`]
  if (i.correlation !== 'NaN') {
    const between = i.low === 'NaN' ? '' : ` (${number(i.low)} to ${number(i.high)})`
    parts.push(`rank correlation ${number(i.correlation)}${between}`)
  }
  parts.push(`${i.runs} runs`)
  return parts.join(', ')
}
</script>

<template>
  <div>
    <div class="effects">
      <figure v-for="e in effects.list" :key="e.name">
        <figcaption>{{ mattered.figure }} against {{ e.name }}</figcaption>
        <svg :viewBox="`0 0 ${width} ${height}`" role="img" :aria-label="`${e.name}: ${e.says}`">
          <g v-for="t in effects.ticks" :key="t">
            <path :d="`M${left} ${y(t)}H${width - right}`" class="rule" />
            <text :x="left - 6" :y="y(t) + 3.5" text-anchor="end">{{ number(t) }}</text>
          </g>
          <template v-if="!e.words">
            <path :d="band(e)" class="band" />
            <circle v-for="p in e.points" :key="p.run" :cx="x(e, p.at)" :cy="y(p.figure)" r="2.2" class="run">
              <title>{{ project }}/{{ p.run }}: {{ p.text }}, {{ number(p.figure) }}</title>
            </circle>
            <path :d="line(e)" class="line" />
          </template>
          <template v-else>
            <circle v-for="p in e.points" :key="p.run" :cx="x(e, p.at)" :cy="y(p.figure)" r="2.2" class="run">
              <title>{{ project }}/{{ p.run }}: {{ p.text }}, {{ number(p.figure) }}</title>
            </circle>
            <g v-for="p in e.places" :key="p.text">
              <path :d="`M${x(e, p.at)} ${y(p.low)}V${y(p.high)}`" class="reach">
                <title>{{ p.text }}: {{ number(p.mean) }} ({{ number(p.low) }} to {{ number(p.high) }})</title>
              </path>
              <path :d="`M${x(e, p.at) - 7} ${y(p.mean)}h14`" class="line" />
            </g>
          </template>
          <text v-for="t in e.ticks" :key="t.text" :x="x(e, t.at)" :y="height - 7" :text-anchor="t.anchor">
            {{ t.text }}
          </text>
        </svg>
        <p class="small">{{ strength(e) }}</p>
      </figure>
    </div>
    <p v-if="effects.list.length" class="small">
      Points are runs. The line is what the forest predicts on average when all runs have that value, the band what
      eight in ten of its trees do.
      <template v-if="effects.cut">
        {{ effects.cut === 1 ? 'One run lies' : `${effects.cut} runs lie` }} beyond the axis.
      </template>
    </p>
    <p v-if="effects.others.length" class="small">No effect to draw: {{ effects.others.join(', ') }}.</p>
  </div>
</template>

<style scoped>
.effects {
  display: grid;
  grid-template-columns: repeat(3, minmax(0, 1fr));
  gap: 14px 20px;
}
figure {
  margin: 0;
}
figcaption {
  font-weight: 500;
}
svg {
  display: block;
  width: 100%;
}
text {
  font: 10px var(--mono);
  fill: var(--ink2);
}
.rule {
  stroke: var(--rule);
}
.band {
  fill: var(--accent);
  opacity: 0.16;
}
.line {
  stroke: var(--accent);
  stroke-width: 2;
  fill: none;
}
.reach {
  stroke: var(--accent);
  stroke-width: 10;
  opacity: 0.22;
}
.run {
  fill: var(--ink3);
  opacity: 0.55;
}
figure p {
  margin: 2px 0 0;
}
@media (max-width: 700px) {
  .effects {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
