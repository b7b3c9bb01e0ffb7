<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, ref } from 'vue'
import type { Checkpoint } from '../api/client'
import CheckpointMenu from './CheckpointMenu.vue'
import { bytes, linkTo, number as text, until, when } from '../shared/format'

const props = defineProps<{
  checkpoints: Checkpoint[]
  objective: string
  project: string
  number: number
  maker: string
}>()
defineEmits<{ changed: [] }>()
const all = ref(false)
const problem = ref('')
const few = 6

/** The latest few and the best one, or all. */
const shown = computed(() =>
  all.value ? props.checkpoints : props.checkpoints.filter((c, i) => i < few || c.best || c.pinned),
)
const at = (c: Checkpoint) => c.address.split('@')[1]
const best = computed(() => props.checkpoints.find((c) => c.best))
</script>

<template>
  <p v-if="!checkpoints.length" class="small">
    The program has saved none. A checkpoint holds weights, optimiser state and what else is needed to go on or to use
    the model.
  </p>
  <template v-else>
    <table>
      <thead>
        <tr>
          <th>Checkpoint</th>
          <th>Why</th>
          <th class="n">{{ objective }}</th>
          <th>Usable for</th>
          <th>Verified</th>
          <th>Parts</th>
          <th class="n">Size</th>
          <th class="n" title="bytes that nothing else holds: dropping the checkpoint frees them">Own</th>
          <th>Saved</th>
          <th><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in shown" :key="c.address" :class="{ gone: c.dropped }">
          <td class="mono">
            <RouterLink :to="linkTo(c.address)">@{{ at(c) }}</RouterLink>
            &#160;
            <span v-if="c.best" class="accent">best&#160;</span>
            <span v-if="c.last" class="small">last</span>
            <span v-if="c.pinned" class="small">pinned&#160;</span>
            <span v-if="c.dropped" class="small" :title="`${when(c.dropped)}, ${c.why_deleted}`">dropped</span>
            <span v-else-if="c.delete_at" class="warn" :title="`${when(c.delete_at)}, ${c.why_deleted}`">
              to be deleted {{ until(c.delete_at) }}
            </span>
            <span v-if="c.replaced" class="small" title="a later leg began before it">replaced</span>
          </td>
          <td>{{ c.why }}</td>
          <td class="n">{{ c.figures && objective in c.figures ? text(c.figures[objective]) : '' }}</td>
          <td
            :class="{ warn: c.usable_for !== 'resume' }"
            :title="c.lacks?.length ? `to resume it lacks ${c.lacks.join(', ')}` : ''"
          >
            {{ c.usable_for }}
          </td>
          <td>
            <span v-if="c.verified?.length" :class="c.verified[0].same ? 'good' : 'bad'" :title="c.verified[0].says">
              {{ c.verified[0].same ? '✓ verified' : '≠ not the same' }}
            </span>
          </td>
          <td class="small parts" :title="c.parts?.join(' ')">{{ c.parts?.join(' ') }}</td>
          <td class="n">{{ bytes(c.size) }}</td>
          <td class="n">{{ c.dropped ? '' : bytes(c.frees ?? 0) }}</td>
          <td class="small">{{ when(c.saved) }}</td>
          <td>
            <CheckpointMenu
              :checkpoint="c"
              :maker="maker"
              @changed="$emit('changed')"
              @failed="(why) => (problem = why)"
            />
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <p class="foot small">
      <ElButton v-if="shown.length < checkpoints.length" size="small" @click="all = true">
        All {{ checkpoints.length }}
      </ElButton>
      <span v-if="best">
        Restore the best, checked:
        <code class="mono">kembrel restore {{ project }}/{{ number }}@best --into model</code>
      </span>
    </p>
  </template>
</template>

<style scoped>
.foot {
  display: flex;
  gap: 16px;
  align-items: center;
}
.parts {
  max-width: 190px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
td.mono a {
  text-decoration: underline;
  text-underline-offset: 2px;
}
.gone td {
  color: var(--ink3);
}
</style>
