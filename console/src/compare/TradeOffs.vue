<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import type { TradeOff } from '../api/client'
import { dark } from '../shared/theme'
import { labelOf } from '../shared/columns'
import Drawing from './Drawing.vue'
import { tradeOff } from './options'

/** Figures against each other, and the runs that no other beats. */
const props = defineProps<{ project: string; trade: TradeOff; offered: string[]; figures: string[] }>()
const emit = defineEmits<{ change: [figures: string[]] }>()
const router = useRouter()
const option = computed(() => (void dark.value, tradeOff(props.trade, props.project)))
const table = computed(() => [
  ['run', 'title', ...props.trade.figures, 'beaten by none'],
  ...(props.trade.points ?? []).map((p) => [
    `${props.project}/${p.run}`,
    p.title,
    ...(p.values ?? []).map(String),
    p.undominated ? 'yes' : '',
  ]),
])
function set(i: number, v: string) {
  const list = [...props.figures]
  if (v) list[i] = v
  else list.splice(i, 1)
  emit('change', list)
}
const open = (data: unknown) => {
  const run = (data as { run?: number })?.run
  if (run) void router.push({ name: 'run', params: { project: props.project, number: run } })
}
</script>

<template>
  <Drawing
    title="Figures against each other"
    :file="`${project}-trade-off`"
    :option="option"
    :height="280"
    :csv="table"
    :says="trade.says"
    @pick="open"
  >
    <ElSelect
      v-for="i in [0, 1, 2]"
      :key="i"
      :model-value="figures[i] ?? ''"
      size="small"
      class="choose"
      :clearable="i === 2"
      placeholder="and as size"
      :aria-label="['Across', 'Upwards', 'As size'][i]"
      @change="(v: string) => set(i, v ?? '')"
    >
      <ElOption
        v-for="f in offered"
        :key="f"
        :value="f"
        :label="labelOf(f)"
        :disabled="figures.includes(f) && figures[i] !== f"
      />
    </ElSelect>
    <span class="small">◆ beaten by none</span>
  </Drawing>
</template>

<style scoped>
.choose {
  width: 150px;
}
</style>
