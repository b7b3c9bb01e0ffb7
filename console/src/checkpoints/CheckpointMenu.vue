<script setup lang="ts">
import { ElButton, ElDropdown, ElDropdownItem, ElDropdownMenu } from 'element-plus'
import { answer, client, type Checkpoint } from '../api/client'
import { useMay } from '../shared/may'
import { bytes } from '../shared/format'

/** What can be done with a checkpoint: download its files, pin it, drop it, bring it back. */
const props = defineProps<{ checkpoint: Checkpoint; maker: string }>()
const emit = defineEmits<{ changed: []; failed: [why: string] }>()

function path() {
  const [run, at] = props.checkpoint.address.split('@')
  const [project, number] = run.split('/')
  return { project, number: Number(number), at }
}
function href(file: string) {
  const { project, number, at } = path()
  return `/api/v1/projects/${project}/runs/${number}/checkpoints/${at}/file?path=${encodeURIComponent(file)}`
}
const { may } = useMay(path().project)
const base = '/api/v1/projects/{project}/runs/{number}/checkpoints/{at}'
const acts = {
  pin: () => client.PUT(`${base}/pin`, { params: { path: path() }, body: { pinned: !props.checkpoint.pinned } }),
  drop: () => client.DELETE(base, { params: { path: path() } }),
  keep: () => client.POST(`${base}/keep`, { params: { path: path() } }),
}
async function act(what?: keyof typeof acts) {
  if (!what) return
  try {
    await answer<unknown>(acts[what]())
    emit('changed')
  } catch (e) {
    emit('failed', (e as Error).message)
  }
}
</script>

<template>
  <ElDropdown v-if="!checkpoint.dropped" trigger="click" @command="act">
    <ElButton size="small" :aria-label="`Actions on ${checkpoint.address}`">Actions</ElButton>
    <template #dropdown>
      <ElDropdownMenu>
        <ElDropdownItem v-for="f in checkpoint.files" :key="f.path">
          <a class="download" :href="href(f.path)" download>Download {{ f.path }} &#160; {{ bytes(f.size) }}</a>
        </ElDropdownItem>
        <ElDropdownItem v-if="checkpoint.delete_at && may('member', maker)" divided command="keep">
          Bring it back
        </ElDropdownItem>
        <ElDropdownItem v-else-if="may('member', maker)" divided command="pin">
          {{ checkpoint.pinned ? 'Take the pin away' : 'Pin: no rule drops it' }}
        </ElDropdownItem>
        <ElDropdownItem v-if="!checkpoint.delete_at && !checkpoint.pinned && may('owner', maker)" command="drop">
          Drop its bytes in 7 days, which frees {{ bytes(checkpoint.frees ?? 0) }}
        </ElDropdownItem>
      </ElDropdownMenu>
    </template>
  </ElDropdown>
</template>

<style scoped>
.download {
  color: var(--ink);
}
</style>
