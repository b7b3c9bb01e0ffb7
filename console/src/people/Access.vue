<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElOptionGroup, ElSelect } from 'element-plus'
import { computed, reactive, ref, watch } from 'vue'
import { answer, client, type Project } from '../api/client'
import Question from '../shared/Question.vue'
import { useLive } from '../shared/live'
import { useActing, useLoading } from '../shared/loading'
import { when } from '../shared/format'
import RoleList from './RoleList.vue'
import { atLeast, type GivenRole, type Person, roles, type RoleName, type Team } from '../shared/roles'

/** Who sees a project, and what they may in it. Owners change it. */
const props = defineProps<{ project: string }>()
const info = ref<Project>()
const given = ref<GivenRole[]>([])
const people = ref<Person[]>([])
const teams = ref<Team[]>([])
const who = ref('')
const role = ref<RoleName>('member')
const params = { path: { project: props.project } }
const { problem, loader } = useLoading()
const load = loader(async () => {
  info.value = await answer(client.GET('/api/v1/projects/{project}', { params }))
  given.value = (await answer(client.GET('/api/v1/projects/{project}/roles', { params }))).items ?? []
  if (!may.value) return
  people.value = (await answer(client.GET('/api/v1/people', { params: { query: { limit: 500 } } }))).items ?? []
  teams.value = (await answer(client.GET('/api/v1/teams'))).items ?? []
})
useLive({ project: props.project }, { hello: load, project: load, role: load })

const may = computed(() => atLeast(info.value?.role, 'owner'))
const owners = computed(() =>
  given.value
    .filter((g) => g.role === 'owner')
    .map((g) => g.person || g.team)
    .join(', '),
)
const says = computed(() => {
  if (!info.value) return ''
  const mine = `You are ${info.value.role}.`
  if (!info.value.open) return `Only those named here, and administrators, see it. ${mine}`
  return `Everybody who is signed in sees it; roles on the service hold here too. ${mine}`
})

const called = computed(() => {
  const o = info.value?.objective
  const title = info.value?.title ? `${info.value.title}, in addresses ${props.project}.` : `${props.project}.`
  return o ? `${title} Runs are judged by ${o.curve}, ${o.direction} is better.` : title
})
/** What is asked for; it follows what others set until it is sent. */
const asked = reactive<{ title: string; curve: string; direction: 'lower' | 'higher' }>({
  title: '',
  curve: '',
  direction: 'lower',
})
watch(info, (now, before) => {
  if (now && now.title !== before?.title) asked.title = now.title ?? ''
  if (now && JSON.stringify(now.objective) !== JSON.stringify(before?.objective)) Object.assign(asked, now.objective)
})

const objective = computed(() => ({ curve: asked.curve.trim(), direction: asked.direction }))
const other = computed(
  () =>
    objective.value.curve !== info.value?.objective.curve ||
    objective.value.direction !== info.value.objective.direction,
)

const { refused, act } = useActing(load)
const name = () =>
  act(() =>
    answer(
      client.PATCH('/api/v1/projects/{project}', {
        params,
        body: { title: asked.title.trim(), objective: other.value ? objective.value : undefined },
      }),
    ),
  )
const holder = (g: GivenRole) => (g.team ? { team: g.team } : { person: g.person })
const open = (open: boolean) =>
  act(() => answer(client.PATCH('/api/v1/projects/{project}', { params, body: { open } })))
const archive = (archived: boolean) =>
  act(() => answer(client.PATCH('/api/v1/projects/{project}', { params, body: { archived } })))
const set = (of: { person?: string; team?: string }, role: RoleName) =>
  act(() => answer(client.PUT('/api/v1/projects/{project}/roles', { params, body: { ...of, role } })))
const drop = (g: GivenRole) =>
  act(() => answer(client.DELETE('/api/v1/projects/{project}/roles', { params: { ...params, query: holder(g) } })))
async function give() {
  const [kind, ...rest] = who.value.split(':')
  await set({ [kind]: rest.join(':') }, role.value)
  who.value = ''
}
</script>

<template>
  <main>
    <div class="page-top">
      <h1>Access to {{ project }}</h1>
      <span class="space"></span>
      <RouterLink v-if="may" :to="{ name: 'subscriptions', params: { project } }" class="small">
        Subscriptions
      </RouterLink>
      <RouterLink v-if="may" :to="{ name: 'project-audit', params: { project } }" class="small">
        What was done
      </RouterLink>
    </div>
    <p v-if="problem || refused" class="bad page-top" role="alert">{{ problem || refused }}</p>
    <Question v-if="info" title="Who may what here?" :says="says">
      <template #aside>
        <RoleList />
        <p v-if="!may && owners" class="small">Its owners give roles: {{ owners }}.</p>
        <template v-if="may">
          <ElButton v-if="info.open" size="small" class="below" @click="open(false)">Close it</ElButton>
          <ElButton v-else size="small" class="below" @click="open(true)">Open it to everybody</ElButton>
          <ElButton size="small" class="below" @click="archive(!info.archived)">
            {{ info.archived ? 'Bring it back' : 'Archive it' }}
          </ElButton>
          <p v-if="info.archived" class="small">
            Archived {{ when(info.archived) }}: lists leave it out; all else goes on.
          </p>
        </template>
      </template>
      <table v-if="given.length">
        <thead>
          <tr>
            <th>Who</th>
            <th>Role</th>
            <th>Given</th>
            <th v-if="may"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="g in given" :key="(g.team ? 'team' : 'person') + (g.person || g.team)">
            <td>
              {{ g.person || g.team }}
              <span v-if="g.team" class="small">team</span>
            </td>
            <td>
              <ElSelect
                v-if="may"
                :model-value="g.role"
                size="small"
                class="choose"
                :aria-label="`Role of ${g.person || g.team}`"
                @change="(r: RoleName) => set(holder(g), r)"
              >
                <ElOption v-for="r in roles" :key="r.name" :value="r.name" :label="r.name" />
              </ElSelect>
              <template v-else>{{ g.role }}</template>
            </td>
            <td class="small">{{ when(g.given) }}</td>
            <td v-if="may" class="acts"><ElButton link size="small" @click="drop(g)">Take away</ElButton></td>
          </tr>
        </tbody>
      </table>
      <p v-else class="small">Nobody has a role of their own here.</p>
      <form v-if="may" class="add" @submit.prevent="give">
        <ElSelect v-model="who" size="small" filterable class="wide" placeholder="person or team" aria-label="Who">
          <ElOptionGroup label="Teams">
            <ElOption v-for="t in teams" :key="t.name" :value="'team:' + t.name" :label="t.name" />
          </ElOptionGroup>
          <ElOptionGroup label="People and machines">
            <ElOption
              v-for="p in people.filter((p) => !p.closed)"
              :key="p.name"
              :value="'person:' + p.name"
              :label="p.name"
            />
          </ElOptionGroup>
        </ElSelect>
        <ElSelect v-model="role" size="small" class="choose" aria-label="Role">
          <ElOption v-for="r in roles" :key="r.name" :value="r.name" :label="r.name" />
        </ElSelect>
        <ElButton size="small" native-type="submit" :disabled="!who">Give</ElButton>
      </form>
    </Question>
    <Question v-if="info" title="What is it called, and judged by?" :says="called">
      <form v-if="may" class="add" @submit.prevent="name">
        <label>
          Title
          <ElInput v-model="asked.title" size="small" class="title" placeholder="none" />
        </label>
        <label>
          judged by
          <ElInput
            v-model="asked.curve"
            size="small"
            class="wide"
            aria-label="Curve that runs are judged by"
            required
          />
        </label>
        <ElSelect v-model="asked.direction" size="small" class="choose" aria-label="Which way it improves">
          <ElOption value="lower" label="lower" />
          <ElOption value="higher" label="higher" />
        </ElSelect>
        <ElButton size="small" native-type="submit" :disabled="!asked.curve.trim()">Set</ElButton>
      </form>
      <p v-if="may" class="small">
        The key in addresses, {{ project }}, stays: an address never means two things. Another objective counts best
        figures, verdicts and rules anew.
      </p>
      <p v-else class="small">Its owners change it.</p>
    </Question>
  </main>
</template>

<style scoped>
.below {
  margin-top: 10px;
}
.choose {
  width: 120px;
}
.wide {
  width: 240px;
}
.title {
  width: 280px;
}
</style>
