<script setup lang="ts">
import { ref, useTemplateRef, watch } from 'vue'
import { readNpy, type Grid } from './npy'
import { rateOf, spectrogram } from './spectrogram'

/** Bytes of strangers as what they are: a picture, a sound, an array drawn as one, a text. */
const props = defineProps<{ url: string; name: string; card?: boolean }>()
const kind = ref('')
const text = ref('')
const range = ref('')
const heard = ref('')
const problem = ref('')
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
const largestText = 200_000
const largestArray = 32 << 20
watch(
  () => props.url,
  async () => {
    kind.value = text.value = range.value = heard.value = problem.value = ''
    const mine = props.url
    const stop = new AbortController()
    try {
      const got = await fetch(mine, { signal: stop.signal })
      if (mine !== props.url) return
      if (!got.ok) {
        problem.value = `It cannot be read: ${got.statusText || String(got.status)}.`
        return
      }
      kind.value = got.headers.get('Kembrel-Media') ?? ''
      const small = Number(got.headers.get('Content-Length') ?? 0) <= largestArray
      if (kind.value === 'text' && small) text.value = (await got.text()).slice(0, largestText)
      else if (kind.value === 'array' && small) {
        const grid = readNpy(await got.arrayBuffer())
        if (mine !== props.url) return
        if (grid) draw(grid)
        else kind.value = ''
      } else if (kind.value === 'sound' && !props.card && small) await listen(await got.arrayBuffer(), mine)
      else stop.abort() // a browser fetches pictures and sounds by itself
    } catch {
      if (mine === props.url) problem.value = 'It cannot be read: the service does not answer.'
    }
  },
  { immediate: true },
)

/** Draws the spectrogram of a sound; of one that the browser cannot decode, or that is silent, none. */
async function listen(content: ArrayBuffer, mine: string) {
  const rate = rateOf(content)
  try {
    const sound = await new OfflineAudioContext(1, 1, rate).decodeAudioData(content)
    const grid = spectrogram(sound.getChannelData(0))
    if (mine !== props.url || !grid) return
    heard.value = `${sound.duration.toFixed(1)} s across, 0 to ${(rate / 2000).toFixed(1)} kHz upwards`
    draw(grid)
  } catch {
    // it plays, or says itself that it does not
  }
}

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
  <div :class="{ card }">
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <img v-if="kind === 'picture'" :src="url" :alt="name" />
    <template v-else-if="kind === 'sound'">
      <audio controls preload="metadata" :src="url" :aria-label="name"></audio>
      <template v-if="heard">
        <canvas ref="canvas" role="img" :aria-label="`${name}, its spectrogram: ${heard}`"></canvas>
        <p class="small">{{ heard }}, 80 dB from light to dark</p>
      </template>
    </template>
    <template v-else-if="kind === 'array'">
      <canvas ref="canvas" role="img" :aria-label="`${name} as a picture: ${range}`"></canvas>
      <p v-if="!card" class="small">{{ range }}</p>
    </template>
    <pre v-else-if="kind === 'text'" class="text" tabindex="0">{{ text }}</pre>
  </div>
</template>

<style scoped>
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
.card img,
.card canvas {
  display: block;
  width: 100%;
  height: 84px;
  object-fit: fill;
  border: 0;
}
.card audio {
  display: block;
  width: 100%;
  height: 32px;
}
.card .text {
  height: 84px;
  border: 0;
}
</style>
