<script setup lang="ts">
import type { components } from '../api/schema'
import { bytes } from './format'

/** The files of a checkpoint or an edition, by part; href is where one is downloaded, absent where its bytes are gone. */
defineProps<{ files: components['schemas']['File'][]; href?: (path: string) => string }>()
</script>

<template>
  <table>
    <thead>
      <tr>
        <th>Part</th>
        <th>File</th>
        <th class="n">Size</th>
        <th>Digest</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="f in files" :key="f.path">
        <td>{{ f.part }}</td>
        <td class="mono">
          <a v-if="href" :href="href(f.path)" download>{{ f.path }}</a>
          <template v-else>{{ f.path }}</template>
        </td>
        <td class="n">{{ bytes(f.size) }}</td>
        <td class="mono small" :title="f.digest">{{ f.digest.slice(0, 19) }}…</td>
      </tr>
    </tbody>
  </table>
</template>
