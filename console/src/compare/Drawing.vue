<script setup lang="ts">
import { HeatmapChart, ParallelChart, ScatterChart } from 'echarts/charts'
import { GridComponent, ParallelComponent, TooltipComponent, VisualMapComponent } from 'echarts/components'
import { init, use, type EChartsCoreOption, type EChartsType } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { download } from '../chart/save'
import FigureHead from '../chart/FigureHead.vue'
import { dark } from '../shared/theme'

/** A drawing of an analysis, with itself as SVG and its data as CSV. */
const props = defineProps<{
  title: string
  file: string
  option: EChartsCoreOption
  height: number
  csv: string[][]
  says: string
}>()
const emit = defineEmits<{ pick: [data: unknown]; ready: [chart: EChartsType] }>()
use([
  HeatmapChart,
  ParallelChart,
  ScatterChart,
  GridComponent,
  ParallelComponent,
  TooltipComponent,
  VisualMapComponent,
  SVGRenderer,
])
const host = ref<HTMLElement>()
const asTable = ref(false)
let chart: EChartsType | undefined
const draw = () => chart?.setOption(props.option, true)
const resize = new ResizeObserver(() => chart?.resize())
onMounted(() => {
  chart = init(host.value, undefined, { renderer: 'svg' })
  chart.on('click', (e) => {
    emit('pick', e.data)
  })
  draw()
  emit('ready', chart)
  if (host.value) resize.observe(host.value)
})
onBeforeUnmount(() => {
  resize.disconnect()
  chart?.dispose()
})
watch([() => props.option, dark], () => {
  draw()
  if (chart) emit('ready', chart)
})
function save(kind: string) {
  if (kind === 'csv') {
    const text = props.csv
      .map((r) => r.map((c) => (/[",\n]/.test(c) ? `"${c.replaceAll('"', '""')}"` : c)).join(','))
      .join('\n')
    download(`${props.file}.csv`, new Blob([text + '\n'], { type: 'text/csv' }))
    return
  }
  const svg = host.value?.querySelector('svg')?.cloneNode(true)
  if (svg instanceof SVGElement) {
    svg.setAttribute('xmlns', 'http://www.w3.org/2000/svg')
    download(`${props.file}.svg`, new Blob([svg.outerHTML], { type: 'image/svg+xml' }))
  }
}
</script>

<template>
  <figure>
    <FigureHead v-model:as-table="asTable" :title="title" :kinds="['svg', 'csv']" @save="save">
      <slot></slot>
    </FigureHead>
    <div ref="host" role="img" :aria-label="says" :style="{ height: height + 'px' }"></div>
    <div v-if="asTable" class="rows" tabindex="0">
      <table>
        <thead>
          <tr>
            <th v-for="(h, i) in csv[0]" :key="i" scope="col">{{ h }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, i) in csv.slice(1)" :key="i">
            <td v-for="(c, k) in r" :key="k" class="mono">{{ c }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </figure>
</template>

<style scoped>
figure {
  margin: 0 0 14px;
  min-width: 0;
}
.rows {
  max-height: 260px;
  overflow: auto;
}
</style>
