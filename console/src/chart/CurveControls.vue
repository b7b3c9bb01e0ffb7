<script setup lang="ts">
import { ElButton, ElInputNumber, ElSegmented } from 'element-plus'
import { computed } from 'vue'
import type { Axis } from './curves'
import { useLook } from './look'

/** How curves are looked at; the link carries it, so whoever draws them finds it there. What a page has besides goes into the slots. */
const props = defineProps<{ axes: Axis[]; unit: Axis }>()
const { axis, scale, smooth, kind, hide, zoom, setZoom } = useLook()
const labels: Record<Axis, string> = { epoch: 'epoch', step: 'step', since: 'time since start', clock: 'clock' }
const axes = computed(() => props.axes.map((value) => ({ label: labels[value], value })))
</script>

<template>
  <div class="controls">
    <ElSegmented v-model="axis" size="small" :options="axes" aria-label="Axis" />
    <ElSegmented v-model="scale" size="small" :options="['linear', 'log']" aria-label="Scale" />
    <slot name="lines"></slot>
    <label class="small">
      Smooth
      <ElInputNumber v-model="smooth" size="small" :min="0" :step="1" controls-position="right" />
      {{ unit === 'epoch' ? 'epochs' : unit === 'step' ? 'steps' : 's' }}
    </label>
    <ElSegmented v-if="smooth > 0" v-model="kind" size="small" :options="['mean', 'median']" aria-label="Smoothing" />
    <label class="small">
      Hide first
      <ElInputNumber v-model="hide" size="small" :min="0" :max="100000" :step="1" controls-position="right" />
      epochs
    </label>
    <slot></slot>
    <ElButton v-if="zoom" size="small" @click="setZoom(null, null)">Whole range</ElButton>
    <slot name="end"></slot>
  </div>
</template>

<style scoped>
.controls {
  display: flex;
  gap: 8px 14px;
  align-items: center;
  flex-wrap: wrap;
  margin-bottom: 10px;
}
.controls :deep(.el-input-number) {
  width: 76px;
}
</style>
