<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { answer, client, type Improvements, type Project } from '../api/client'
import { steps } from './steps'

/**
 * A small drawing of how a project's best moved: a step at each run that beat all before it, over time up to now. It is
 * asked for when it comes into sight, and again when the best has changed.
 */
const props = defineProps<{ project: Project }>()
const width = 140
const height = 24

const moved = ref<Improvements>()
const place = ref<HTMLElement>()
let seen = false

async function load() {
  if (!seen) return
  let found: Improvements | undefined
  if (props.project.best_run) {
    const path = { project: props.project.key }
    found = await answer(client.GET('/api/v1/projects/{project}/improvements', { params: { path } })).catch(
      () => undefined, // the row says what is best all the same
    )
  }
  moved.value = found
}
const sight = new IntersectionObserver((entries) => {
  if (seen || !entries.some((e) => e.isIntersecting)) return
  seen = true
  sight.disconnect()
  void load()
})
onMounted(() => place.value && sight.observe(place.value))
onBeforeUnmount(() => sight.disconnect())
watch(
  [
    () => props.project.best_run,
    () => props.project.best?.value,
    () => props.project.objective.curve,
    () => props.project.objective.direction,
  ],
  load,
)

const drawing = computed(() => steps(moved.value?.items ?? [], Date.now(), width, height))
</script>

<template>
  <span ref="place" class="place">
    <svg v-if="drawing" :width="width" :height="height" role="img" :aria-label="moved?.says">
      <title>{{ moved?.says }}</title>
      <path :d="drawing.path" fill="none" stroke="var(--ink2)" stroke-width="1.4" />
      <circle :cx="drawing.x" :cy="drawing.y" r="2.6" fill="var(--paper)" stroke="var(--ink2)" stroke-width="1.5" />
    </svg>
  </span>
</template>

<style scoped>
.place {
  display: block;
  min-height: 24px;
}
svg {
  display: block;
}
</style>
