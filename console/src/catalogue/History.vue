<script setup lang="ts">
import { computed } from 'vue'
import { type Edition, type Holding } from '../api/client'
import { draw, lineHeight } from './history'

/** A standing's history as lines in time, one for each edition; as a table for those who cannot see it. */
const props = defineProps<{ editions: Edition[]; history: Holding[]; standing: string }>()
const width = 860
const left = 60
const drawing = computed(() => draw(props.editions, props.history, props.standing, width))
const name = computed(
  () =>
    `Editions ${props.standing.replaceAll('-', ' ')} over time: ` +
    props.history
      .filter((h) => h.standing === props.standing && h.edition)
      .map((h) => `#${h.edition} from ${h.since.slice(0, 16)}${h.until ? ' to ' + h.until.slice(0, 16) : ''}`)
      .reverse()
      .join(', '),
)
</script>

<template>
  <div class="scroll" tabindex="0" role="region" aria-label="History">
    <svg
      :viewBox="`0 0 ${left + width + 40} ${drawing.height + 26}`"
      :width="left + width + 40"
      :height="drawing.height + 26"
      role="img"
      :aria-label="name"
    >
      <g v-for="t in drawing.ticks" :key="t.at">
        <line class="grid" :x1="left + t.at" :x2="left + t.at" y1="0" :y2="drawing.height + 4" />
        <text class="tick" :x="left + t.at" :y="drawing.height + 18">{{ t.text }}</text>
      </g>
      <g v-for="(l, i) in drawing.lines" :key="l.number" :transform="`translate(0 ${i * lineHeight + 10})`">
        <text class="number" :x="left - 14" y="4">#{{ l.number }}</text>
        <line class="there" :x1="left + l.from" :x2="left + width" y1="0" y2="0" />
        <template v-for="s in l.stretches" :key="s.from">
          <line class="held" :x1="left + s.from" :x2="left + s.to" y1="0" y2="0" />
          <circle class="begin" :cx="left + s.from" cy="0" r="4">
            <title>#{{ l.number }}, given by {{ s.held }}</title>
          </circle>
        </template>
      </g>
    </svg>
  </div>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
}
text {
  font: 12px var(--mono);
  fill: var(--ink2);
}
.number {
  text-anchor: end;
  fill: var(--ink);
}
.grid {
  stroke: var(--rule);
}
.there {
  stroke: var(--ink3);
}
.held {
  stroke: var(--accent);
  stroke-width: 7;
}
.begin {
  fill: var(--paper);
  stroke: var(--accent);
  stroke-width: 2;
}
</style>
