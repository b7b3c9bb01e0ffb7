<script setup lang="ts">
import { computed } from 'vue'
import type { Checkpoint, Leg } from '../api/client'
import { place, toNumber } from '../shared/format'

/** Legs as lines and checkpoints as marks under the curves' axis; shapes tell them apart, not colour alone. */
const props = defineProps<{
  legs: Leg[]
  checkpoints: Checkpoint[]
  axis: string
  left: number
  width: number
  low: number
  high: number
  started?: number
}>()

const seconds = (t: string) => (Date.parse(t) - (props.axis === 'since' ? (props.started ?? 0) : 0)) / 1000
const timed = computed(() => props.axis === 'since' || props.axis === 'clock')
defineEmits<{ choose: [checkpoint: Checkpoint] }>()

const x = (v: number) => props.left + (props.width * (v - props.low)) / (props.high - props.low || 1)
const inside = (v: number) => v >= props.left - 1 && v <= props.left + props.width + 1
const clip = (v: number) => Math.min(Math.max(v, props.left), props.left + props.width)

const lines = computed(() =>
  props.legs.map((l, i) => {
    const span =
      props.axis === 'step'
        ? [l.from_step, l.last_step]
        : timed.value
          ? [seconds(l.started), seconds(l.ended ?? l.seen)]
          : [l.resumed ? toNumber(l.resumed.epoch) : 0, toNumber(l.epoch)]
    return {
      leg: l,
      from: clip(x(span[0])),
      to: clip(x(span[1])),
      y: 9 + 6 * (i % 3),
      cut: l.state === 'failed' || l.state === 'lost',
    }
  }),
)

const marks = computed(() =>
  props.checkpoints
    .map((c) => {
      const at = props.axis === 'step' ? c.step : timed.value ? seconds(c.saved) : toNumber(c.epoch)
      return { c, at: x(at) }
    })
    .filter((m) => inside(m.at)),
)
</script>

<template>
  <svg width="100%" height="46" role="group" aria-label="legs and checkpoints">
    <text x="0" y="14">legs</text>
    <text x="0" y="38">kept</text>
    <g v-for="l in lines" :key="l.leg.number">
      <line
        :x1="l.from"
        :x2="Math.max(l.to, l.from + 2)"
        :y1="l.y"
        :y2="l.y"
        :stroke="l.leg.state === 'running' ? 'var(--accent)' : 'var(--ink2)'"
        stroke-width="3"
      >
        <title>leg {{ l.leg.number }}: {{ l.leg.state }}</title>
      </line>
      <path v-if="l.cut" :d="`M${l.to - 3} ${l.y - 4}l6 8m0-8l-6 8`" stroke="var(--bad)" stroke-width="1.6" />
    </g>
    <a
      v-for="m in marks"
      :key="m.c.address"
      href="#what-came-out"
      :aria-label="`checkpoint ${m.c.address}, usable for ${m.c.usable_for}${m.c.best ? ', best' : ''}${m.c.pinned ? ', pinned' : ''}${m.c.dropped ? ', dropped' : m.c.delete_at ? ', to be deleted' : ''}`"
      @click="$emit('choose', m.c)"
    >
      <path
        v-if="m.c.dropped"
        :d="`M${m.at - 3} 30.5l6 6m0-6l-6 6`"
        fill="none"
        stroke="var(--ink3)"
        stroke-width="1.3"
      />
      <path v-else-if="m.c.best" :d="`M${m.at} 28l5.5 5.5-5.5 5.5-5.5-5.5z`" fill="var(--accent)" />
      <rect v-else-if="m.c.pinned" :x="m.at - 3.4" y="30" width="6.8" height="6.8" fill="var(--ink2)" />
      <circle v-else-if="m.c.usable_for === 'resume'" :cx="m.at" cy="33.5" r="3.6" fill="var(--ink2)" />
      <circle v-else :cx="m.at" cy="33.5" r="3.4" fill="var(--paper)" stroke="var(--ink2)" stroke-width="1.4" />
      <line v-if="m.c.delete_at && !m.c.dropped" :x1="m.at - 5" :x2="m.at + 5" y1="42" y2="42" stroke="var(--warn)" />
      <title>
        {{ place(m.c) }} {{ m.c.why }}{{ m.c.dropped ? ', dropped' : m.c.delete_at ? ', to be deleted' : '' }}
      </title>
    </a>
  </svg>
</template>

<style scoped>
svg {
  display: block;
}
text {
  font: 11px var(--sans);
  fill: var(--ink2);
}
</style>
