<script setup lang="ts">
import { computed } from 'vue'
import { type Edition } from '../api/client'
import { bytes, number, when, type Float } from '../shared/format'

/** The outcomes of an edition's checks, with those that a standing asks for and nobody reported. */
const props = defineProps<{ edition: Edition; wanted: string[] }>()
const missing = computed(() => props.wanted.filter((name) => !props.edition.checks?.some((c) => c.name === name)))
const figures = (f: Record<string, Float> | undefined) =>
  Object.entries(f ?? {})
    .map(([name, v]) => `${name} ${number(v)}`)
    .join(', ')
/** A link that leads out is one only where it is plainly an address on the web. */
const link = (text: string | undefined) => (text && /^https?:\/\//.test(text) ? text : undefined)
const file = (check: string, path: string) =>
  `/api/v1/models/${props.edition.model}/editions/${props.edition.number}/file?${new URLSearchParams({ check, path })}`
</script>

<template>
  <table v-if="edition.checks?.length || missing.length">
    <thead>
      <tr>
        <th>Check</th>
        <th>Outcome</th>
        <th>Figures</th>
        <th>By</th>
        <th>When</th>
        <th>More</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="c in edition.checks" :key="c.name">
        <td>{{ c.name }}</td>
        <td :class="c.passed ? 'good' : 'bad'">{{ c.passed ? '✓ passed' : '✗ failed' }}</td>
        <td class="mono">{{ figures(c.figures) }}</td>
        <td class="small">{{ c.who }}</td>
        <td class="small">{{ when(c.at) }}</td>
        <td class="small long">
          {{ c.text }}
          <a v-if="link(c.link)" :href="link(c.link)" rel="noopener noreferrer nofollow">{{ c.link }}</a>
          <template v-else>{{ c.link }}</template>
          <a v-for="f in c.files" :key="f.path" class="mono file" :href="file(c.name, f.path)" :title="bytes(f.size)">
            {{ f.path }}
          </a>
        </td>
      </tr>
      <tr v-for="name in missing" :key="name">
        <td>{{ name }}</td>
        <td class="warn">not reported</td>
        <td colspan="4" class="small">asked for</td>
      </tr>
    </tbody>
  </table>
  <pre v-else class="command">kembrel catalogue check {{ edition.address }} --name "every class" --passed</pre>
</template>

<style scoped>
.file {
  margin-right: 8px;
}
.long {
  white-space: normal;
}
</style>
