<script setup lang="ts">
import { ElButton, ElCheckbox, ElInput, ElPopover } from 'element-plus'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, client, type View } from '../api/client'

/** Kept views of the project's runs: filter, order and columns, one's own and everybody's. */
const props = defineProps<{ project: string }>()
const route = useRoute()
const router = useRouter()
const views = ref<View[]>([])
const name = ref('')
const everybody = ref(false)
const problem = ref('')
const open = ref(false)

/** What of the link belongs to a view. */
const kept = ['where', 'sort', 'order', 'shown', 'columns', 'widths', 'formats']
const look = computed(() => {
  const q = new URLSearchParams()
  for (const k of kept) if (typeof route.query[k] === 'string') q.set(k, route.query[k])
  return q.toString()
})
const same = (a: string, b: string) => a.split('&').sort().join('&') === b.split('&').sort().join('&')
const current = computed(() => views.value.find((v) => same(v.look, look.value)))

async function tried(work: () => Promise<unknown>) {
  try {
    await work()
    problem.value = ''
  } catch (e) {
    problem.value = (e as Error).message
  }
}
const path = { project: props.project }
const load = () =>
  tried(async () => {
    const page = await answer(client.GET('/api/v1/projects/{project}/views', { params: { path } }))
    views.value = page.items ?? []
  })
void load()
const keep = () =>
  tried(async () => {
    const body = { name: name.value.trim(), look: look.value, everybody: everybody.value }
    await answer(client.PUT('/api/v1/projects/{project}/views', { params: { path }, body }))
    name.value = ''
    await load()
  })
const drop = (v: View) =>
  tried(async () => {
    const params = { path: { ...path, id: v.id } }
    await answer(client.DELETE('/api/v1/projects/{project}/views/{id}', { params }))
    await load()
  })
function show(look: string) {
  const query: Record<string, string> = {}
  if (typeof route.query.tray === 'string') query.tray = route.query.tray
  new URLSearchParams(look).forEach((v, k) => {
    if (kept.includes(k)) query[k] = v
  })
  open.value = false
  void router.push({ query })
}
</script>

<template>
  <ElPopover v-model:visible="open" trigger="click" :width="320" placement="bottom-end" @show="load">
    <template #reference>
      <ElButton size="small">View{{ current ? ': ' + current.name : '' }}</ElButton>
    </template>
    <div role="group" aria-label="Views">
      <ul>
        <li>
          <button type="button" @click="show('')">All runs, as usual</button>
        </li>
        <li v-for="v in views" :key="v.id">
          <button type="button" :class="{ on: v === current }" @click="show(v.look)">{{ v.name }}</button>
          <span class="small">{{ v.everybody ? 'everybody' : 'mine' }}</span>
          <button type="button" class="drop" :aria-label="`drop the view ${v.name}`" @click="drop(v)">×</button>
        </li>
      </ul>
      <form v-if="look" @submit.prevent="keep">
        <ElInput
          v-model="name"
          size="small"
          maxlength="80"
          placeholder="Keep this view as"
          aria-label="Keep this view as"
        />
        <ElCheckbox v-model="everybody" size="small">for everybody</ElCheckbox>
        <ElButton size="small" native-type="submit" :disabled="!name.trim()">Keep</ElButton>
      </form>
      <p v-else class="small">Filter, sort or choose columns; then the view can be kept under a name.</p>
      <p v-if="problem" class="bad small" role="alert">{{ problem }}</p>
    </div>
  </ElPopover>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0 0 8px;
  padding: 0;
}
li {
  display: flex;
  align-items: baseline;
  gap: 8px;
}
li button {
  background: none;
  border: 0;
  padding: 3px 0;
  color: var(--accent);
  cursor: pointer;
  text-align: left;
  flex: 1;
}
li button.on {
  font-weight: 600;
}
li button.drop {
  flex: none;
  color: var(--ink2);
  padding: 3px 5px;
}
form {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px;
}
form .el-input {
  flex: 1 1 100%;
}
</style>
