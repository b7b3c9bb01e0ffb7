<script setup lang="ts">
import { ElInput } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { answer, client, type RunFile, type RunFileView } from '../api/client'
import { useLoading } from '../shared/loading'
import { useQuery } from '../shared/query'

/** A file as a person reads it: lines, rows, a picture, a sound; anything else can be downloaded. */
const props = defineProps<{ project: string; number: number; file: RunFile }>()
const view = ref<RunFileView>()
const search = useQuery<string>('find', '')
const { problem, loader } = useLoading()
const readable = computed(() => props.file.kind === 'text' || props.file.kind === 'table')
const href = computed(
  () =>
    `/api/v1/projects/${props.project}/runs/${props.number}/files/content?path=${encodeURIComponent(props.file.path)}` +
    (props.file.evaluation ? `&evaluation=${props.file.evaluation}` : ''),
)
const read = async (from: number) => {
  if (!readable.value) return
  const got = await answer(
    client.GET('/api/v1/projects/{project}/runs/{number}/files/view', {
      params: {
        path: { project: props.project, number: props.number },
        query: {
          path: props.file.path,
          evaluation: props.file.evaluation ?? 0,
          from,
          limit: 200,
          search: search.value || undefined,
        },
      },
    }),
  )
  view.value = from ? { ...got, rows: [...(view.value?.rows ?? []), ...(got.rows ?? [])] } : got
}
const load = loader(() => read(0))
const rest = loader(() => read(view.value?.rows?.length ?? 0))
watch([search, () => props.file.written], load, { immediate: true })
const none = computed(() => (search.value ? 'Nothing has this in it.' : 'It is empty.'))
</script>

<template>
  <div class="view">
    <div class="head">
      <h3 class="mono">{{ file.path }}</h3>
      <ElInput
        v-if="readable"
        v-model.lazy="search"
        size="small"
        clearable
        class="find"
        placeholder="find"
        :aria-label="`Find in ${file.path}`"
      />
      <span class="space"></span>
      <a :href="href" :download="file.path.split('/').pop()">Download</a>
    </div>
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <img v-if="file.kind === 'picture'" :src="href" :alt="file.path" />
    <audio v-else-if="file.kind === 'sound'" :src="href" controls :aria-label="file.path"></audio>
    <template v-else-if="view">
      <div v-if="view.rows?.length" class="scroll" tabindex="0" role="region" :aria-label="file.path">
        <table v-if="file.kind === 'table'">
          <thead>
            <tr>
              <th class="n">line</th>
              <th v-for="(c, i) in view.columns" :key="i">{{ c }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="r in view.rows" :key="r.line">
              <td class="n small">{{ r.line }}</td>
              <td v-for="(c, i) in r.cells" :key="i" class="mono">{{ c }}</td>
            </tr>
          </tbody>
        </table>
        <pre
          v-else
        ><template v-for="r in view.rows" :key="r.line"><span class="line">{{ r.line }}</span>{{ r.cells?.[0] }}
</template></pre>
      </div>
      <p v-else-if="readable" class="small">{{ none }}</p>
      <button v-if="view.more" type="button" class="link" @click="rest">More</button>
      <p v-if="view.cut" class="small">{{ view.cut }}</p>
      <p v-if="!readable" class="small">It is no text, table, picture or sound.</p>
    </template>
    <p v-else-if="!readable" class="small">It is no text, table, picture or sound that can be shown.</p>
  </div>
</template>

<style scoped>
.view {
  margin-top: 12px;
}
.head {
  display: flex;
  align-items: center;
  gap: 12px;
  margin-bottom: 6px;
}
h3 {
  font-size: 13px;
  margin: 0;
}
.find {
  width: 180px;
}
.space {
  flex: 1;
}
.scroll {
  max-height: 420px;
  overflow: auto;
  border: 1px solid var(--rule);
}
pre {
  margin: 0;
  padding: 6px 0;
  font-size: 12px;
}
.line {
  display: inline-block;
  width: 52px;
  padding-right: 12px;
  text-align: right;
  color: var(--ink3);
  user-select: none;
}
img {
  max-width: 100%;
}
</style>
