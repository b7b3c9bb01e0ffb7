<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, ref, useTemplateRef, watch } from 'vue'
import type { Item, Snapshot } from '../api/client'
import { bytes, hyper } from '../shared/format'
import { readNpy, type Grid } from './npy'

/** One item large: as a picture, a sound, an array drawn as one, a text; or, without bytes, as the row that it is. */
const props = defineProps<{ snapshot: Snapshot; item: Item }>()
const emit = defineEmits<{ step: [by: number]; close: [] }>()
const kind = ref('')
const text = ref('')
const range = ref('')
const problem = ref('')
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
const largestText = 200_000
const largestArray = 32 << 20
const url = computed(
  () => `/api/v1/datasets/${props.snapshot.dataset}/snapshots/${props.snapshot.number}/items/${props.item.row}/bytes`,
)
watch(
  url,
  async () => {
    kind.value = text.value = range.value = problem.value = ''
    if (!props.item.kept) return
    const mine = url.value
    try {
      const small = props.item.size <= largestArray
      const got = await fetch(mine, small ? {} : { headers: { Range: 'bytes=0-511' } })
      if (mine !== url.value) return
      if (!got.ok) {
        problem.value = `It cannot be read: ${got.statusText || String(got.status)}.`
        return
      }
      kind.value = got.headers.get('Kembrel-Media') ?? ''
      if (kind.value === 'text' && small) text.value = (await got.text()).slice(0, largestText)
      else if (kind.value === 'array' && small) {
        const grid = readNpy(await got.arrayBuffer())
        if (mine !== url.value) return
        if (grid) draw(grid)
        else kind.value = ''
      }
    } catch {
      if (mine === url.value) problem.value = 'It cannot be read: the service does not answer.'
    }
  },
  { immediate: true },
)

/** Draws an array as levels of the accent on the sheet, the first row at the foot, as a spectrogram is read. */
function draw(grid: Grid) {
  requestAnimationFrame(() => {
    const to = canvas.value
    const pen = to?.getContext('2d')
    if (!to || !pen) return
    let low = Infinity
    let high = -Infinity
    for (const v of grid.values) {
      if (Number.isFinite(v)) {
        low = Math.min(low, v)
        high = Math.max(high, v)
      }
    }
    to.width = grid.columns
    to.height = grid.rows
    const image = pen.createImageData(grid.columns, grid.rows)
    for (let r = 0; r < grid.rows; r++) {
      for (let c = 0; c < grid.columns; c++) {
        const v = grid.values[(grid.rows - 1 - r) * grid.columns + c] ?? NaN
        const level = high > low ? (v - low) / (high - low) : 0
        const at = 4 * (r * grid.columns + c)
        const [red, green, blue] = Number.isFinite(v) ? shade(level) : [169, 58, 58]
        image.data.set([red, green, blue, 255], at)
      }
    }
    pen.putImageData(image, 0, 0)
    range.value = `${grid.rows} × ${grid.columns}, from ${low.toPrecision(4)} to ${high.toPrecision(4)}`
  })
}
/** From paper through petrol to near black, rising in darkness alone. */
function shade(level: number): [number, number, number] {
  const stops = [
    [246, 245, 241],
    [126, 178, 186],
    [42, 93, 103],
    [10, 24, 28],
  ]
  const at = Math.min(0.9999, Math.max(0, level)) * 3
  const a = stops[Math.floor(at)] ?? [0, 0, 0]
  const b = stops[Math.floor(at) + 1] ?? [0, 0, 0]
  return [0, 1, 2].map((i) => Math.round((a[i] ?? 0) + ((b[i] ?? 0) - (a[i] ?? 0)) * (at % 1))) as [
    number,
    number,
    number,
  ]
}
</script>

<template>
  <section class="one" :aria-label="item.key">
    <div class="head">
      <ElButton size="small" aria-label="The one before" @click="emit('step', -1)">‹</ElButton>
      <ElButton size="small" aria-label="The next one" @click="emit('step', 1)">›</ElButton>
      <span class="space"></span>
      <ElButton size="small" text @click="emit('close')">Close</ElButton>
    </div>
    <p class="mono key">{{ item.key }}</p>
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <img v-if="kind === 'picture'" :src="url" :alt="item.key" />
    <audio v-else-if="kind === 'sound'" controls preload="metadata" :src="url"></audio>
    <template v-else-if="kind === 'array'">
      <canvas ref="canvas" role="img" :aria-label="`${item.key} as a picture: ${range}`"></canvas>
      <p class="small">{{ range }}</p>
    </template>
    <pre v-else-if="kind === 'text'" class="text" tabindex="0">{{ text }}</pre>
    <p v-else-if="!item.kept" class="small">Its bytes were not kept (data add --keep-bytes keeps them).</p>
    <dl>
      <div v-if="item.split">
        <dt>split</dt>
        <dd>{{ item.split }}</dd>
      </div>
      <div v-if="item.group">
        <dt>group</dt>
        <dd class="mono">{{ item.group }}</dd>
      </div>
      <div v-if="item.labels?.length">
        <dt>label</dt>
        <dd>{{ item.labels.join(' + ') }}</dd>
      </div>
      <div v-if="item.found?.length">
        <dt>found</dt>
        <dd class="bad">{{ item.found.join(', ') }}</dd>
      </div>
      <div v-for="(v, name) in item.own ?? {}" :key="name">
        <dt>{{ name }}</dt>
        <dd class="mono">{{ hyper(v) }}</dd>
      </div>
      <div>
        <dt>size</dt>
        <dd class="mono">{{ bytes(item.size) }}</dd>
      </div>
      <div v-if="item.digest">
        <dt>digest</dt>
        <dd class="mono digest" :title="item.digest">{{ item.digest }}</dd>
      </div>
    </dl>
    <p v-if="item.kept" class="small"><a :href="url" download>Export its bytes</a></p>
  </section>
</template>

<style scoped>
.one {
  width: 300px;
  flex: none;
}
.head {
  display: flex;
}
.key {
  margin: 8px 0;
  overflow-wrap: anywhere;
}
img,
canvas {
  width: 300px;
  max-height: 300px;
  object-fit: contain;
  image-rendering: pixelated;
  border: 1px solid var(--rule);
  background: var(--sheet);
}
canvas {
  height: 220px;
  object-fit: fill;
}
audio {
  width: 300px;
}
.text {
  max-height: 260px;
  overflow: auto;
  white-space: pre-wrap;
  font: 12px/1.5 var(--mono);
  background: var(--sheet);
  border: 1px solid var(--rule);
  padding: 8px;
  margin: 0;
}
dl {
  margin: 8px 0;
  font-size: 12px;
}
dl div {
  display: flex;
  gap: 10px;
  border-bottom: 1px solid var(--rule);
  padding: 3px 0;
}
dt {
  color: var(--ink2);
  width: 64px;
  flex: none;
}
dd {
  margin: 0;
  min-width: 0;
  overflow-wrap: anywhere;
}
.digest {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
