<script setup lang="ts">
import { ElButton, ElDialog, ElInputNumber } from 'element-plus'
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, client } from '../api/client'
import { useMay } from './may'
import { colourOf, useTray } from './tray'

/** The strip at the foot that collects runs while one reads. On a run's page, x puts that run in or takes it out. */
const props = defineProps<{ project: string }>()
const route = useRoute()
const router = useRouter()
const { runs, toggle, clear } = useTray()
const { may } = useMay(props.project)
const problem = ref('')
const asking = ref(false)
const days = ref(7)

const here = computed(() => (typeof route.params.number === 'string' ? Number(route.params.number) : 0))
/** As many as fit; the rest are counted. */
const most = 9
const compare = () =>
  router.push({
    name: 'compare',
    params: { project: props.project },
    query: { runs: runs.value.join(','), tray: runs.value.join(',') },
  })

async function each(work: (number: number) => Promise<unknown>) {
  problem.value = ''
  for (const n of runs.value) {
    try {
      await work(n)
    } catch (e) {
      problem.value = (e as Error).message
      return
    }
  }
  await clear()
}
const path = (number: number) => ({ project: props.project, number })
const archive = () =>
  each((n) =>
    answer(
      client.PUT('/api/v1/projects/{project}/runs/{number}/archived', {
        params: { path: path(n) },
        body: { archived: route.query.shown !== 'archived' },
      }),
    ),
  )
async function remove() {
  asking.value = false
  await each((n) =>
    answer(
      client.DELETE('/api/v1/projects/{project}/runs/{number}', {
        params: { path: path(n), query: { days: days.value } },
      }),
    ),
  )
}
const keep = () =>
  each((n) => answer(client.POST('/api/v1/projects/{project}/runs/{number}/keep', { params: { path: path(n) } })))

function byKey(e: KeyboardEvent) {
  const at = e.target as HTMLElement
  if (e.ctrlKey || e.metaKey || e.altKey || /^(INPUT|TEXTAREA|SELECT|TR)$/.test(at.tagName) || at.isContentEditable)
    return
  if (e.key === 'x' && here.value) {
    e.preventDefault()
    void toggle(here.value)
  }
}
onMounted(() => {
  document.addEventListener('keydown', byKey)
})
onBeforeUnmount(() => {
  document.removeEventListener('keydown', byKey)
})
</script>

<template>
  <footer v-if="runs.length || here || route.name === 'runs'" class="tray" aria-label="Tray">
    <span class="small">Tray</span>
    <span v-for="(n, i) in runs.slice(0, most)" :key="n" class="item">
      <span class="dash" :style="{ background: colourOf(i) }"></span>
      <RouterLink class="mono" :to="{ name: 'run', params: { project, number: n } }">{{ project }}/{{ n }}</RouterLink>
      <button type="button" :aria-label="`take ${project}/${n} out`" @click="toggle(n)">×</button>
    </span>
    <span v-if="runs.length > most" class="item small">+ {{ runs.length - most }}</span>
    <span v-if="problem" class="bad small" role="alert">{{ problem }}</span>
    <span class="space"></span>
    <span v-if="route.name === 'runs'" class="small keys">
      <kbd>space</kbd>
      in or out
      <kbd>↵</kbd>
      open
      <kbd>e</kbd>
      edit
    </span>
    <span v-else-if="here" class="small keys">
      <kbd>x</kbd>
      {{ runs.includes(here) ? 'take this run out' : 'put this run in' }}
    </span>
    <template v-if="runs.length">
      <ElButton size="small" @click="clear">Clear</ElButton>
      <template v-if="route.name === 'runs' && may('recorder')">
        <ElButton v-if="route.query.shown === 'deleted'" size="small" @click="keep">Bring back</ElButton>
        <template v-else>
          <ElButton size="small" @click="archive">
            {{ route.query.shown === 'archived' ? 'Bring back' : 'Archive' }}
          </ElButton>
          <ElButton size="small" @click="asking = true">Delete …</ElButton>
        </template>
      </template>
      <ElButton v-if="runs.length > 1 && route.name !== 'compare'" size="small" type="primary" @click="compare">
        Compare {{ runs.length }} runs
      </ElButton>
    </template>
    <ElDialog v-model="asking" :title="`Delete ${runs.length === 1 ? 'one run' : runs.length + ' runs'}`" width="420">
      <p>They leave every list now, and are gone with their curves and checkpoints in</p>
      <p>
        <ElInputNumber v-model="days" size="small" :min="0" :max="365" aria-label="days" />
        days. Until then they can be brought back: Shown, about to be deleted.
      </p>
      <template #footer>
        <ElButton size="small" @click="asking = false">Leave them</ElButton>
        <ElButton size="small" type="danger" @click="remove">Delete</ElButton>
      </template>
    </ElDialog>
  </footer>
</template>

<style scoped>
.tray {
  position: sticky;
  bottom: 0;
  z-index: 5;
  display: flex;
  align-items: center;
  gap: 10px;
  min-height: 42px;
  padding: 6px 24px;
  background: var(--sheet);
  border-top: 1px solid var(--rule2);
}
.item {
  display: inline-flex;
  align-items: center;
  gap: 7px;
  padding: 2px 8px;
  border: 1px solid var(--rule2);
  border-radius: 4px;
  background: var(--paper);
}
.item a {
  color: var(--ink);
}
.item button {
  background: none;
  border: 0;
  padding: 0 2px;
  color: var(--ink2);
  cursor: pointer;
}
.dash {
  width: 14px;
  height: 2px;
}
.keys {
  white-space: nowrap;
}
kbd {
  font: 11px var(--mono);
  border: 1px solid var(--rule2);
  border-radius: 3px;
  padding: 0 4px;
  margin-left: 6px;
}
.tray .el-button + .el-button {
  margin-left: 0;
}
</style>
