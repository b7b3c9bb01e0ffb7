<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { answer, client, session, type Asking, type Edition, type Model, type Standing } from '../api/client'
import PageProblem from '../shared/PageProblem.vue'
import Question from '../shared/Question.vue'
import { setTitle } from '../shared/arriving'
import { linkTo, number, when } from '../shared/format'
import { useLive } from '../shared/live'
import { useLoading } from '../shared/loading'
import Checks from './Checks.vue'
import History from './History.vue'
import Reason from '../shared/Reason.vue'
import Rules from './Rules.vue'

/** A model: what is in use, what waits for whom, what runs where, how it came to be so. */
const props = defineProps<{ model: string }>()
const shown = ref<Model>()
const { problem, loader } = useLoading()
const load = loader(async () => {
  shown.value = await answer(client.GET('/api/v1/models/{model}', { params: { path: { model: props.model } } }))
  setTitle(shown.value.title || shown.value.name)
})
watch(() => props.model, load)
useLive({}, { model: load, hello: load })

const words = (standing: string) => standing.replaceAll('-', ' ')
const editions = computed(() => shown.value?.latest ?? [])
const leading = computed(() => shown.value?.standings?.find((s) => s.name === 'in-use') ?? shown.value?.standings?.[0])
/** The edition whose checks are wanted: the one that waits, else the one in use. */
const checked = computed(() => {
  const number = shown.value?.waiting?.[0]?.edition ?? leading.value?.edition
  return editions.value.find((e) => e.number === number)
})
const link = (e: number | Edition) => ({
  name: 'edition',
  params: { model: props.model, edition: typeof e === 'number' ? e : e.number },
})
const edition = (n: number) => editions.value.find((e) => e.number === n)
const figure = (n: number) => {
  const e = edition(n)
  const v = e?.facts.figures?.[e.facts.objective.curve]
  return e && v !== undefined ? `${e.facts.objective.curve} ${number(v)}` : ''
}
const mine = (w: Asking) => w.who === session.me?.name
const signedByMe = (w: Asking) => w.sign_offs?.some((s) => s.who === session.me?.name && !s.withdrawn)
/** How many of the sign-offs that are wanted there are. */
function signs(w: Asking) {
  const have = w.sign_offs?.filter((s) => s.counts).length ?? 0
  const need = shown.value?.standings?.find((s) => s.name === w.standing)?.approvers ?? 0
  return `${have} of ${need} sign-off${need === 1 ? '' : 's'}`
}
const not = {
  withdrawn: 'withdrawn',
  checks: 'checked since, so to be given again',
  closed: 'who is gone',
  own: 'who asked for it',
} as Record<string, string>

interface Doing {
  title: string
  text: string
  button: string
  needed: boolean
  act: (why: string) => Promise<unknown>
}
const doing = ref<Doing>()
const asking = ref(false)
function ask(d: Doing) {
  doing.value = { ...d, act: (why) => d.act(why).then(load) }
  asking.value = true
}
const at = (w: Asking) => ({ model: props.model, asking: w.id })
const signOff = (w: Asking) =>
  ask({
    title: `Sign off #${w.edition}`,
    text: `You say that edition #${w.edition} may be ${words(w.standing)}, as it is and on its checks as they are.`,
    button: 'Sign off',
    needed: true,
    act: (why) =>
      answer(
        client.PUT('/api/v1/models/{model}/askings/{asking}/sign-off', {
          params: { path: at(w) },
          body: { edition: w.edition, why },
        }),
      ),
  })
const unsign = (w: Asking) =>
  ask({
    title: `Withdraw your sign-off of #${w.edition}`,
    text: 'It no longer counts; you may sign off again.',
    button: 'Withdraw',
    needed: false,
    act: () => answer(client.DELETE('/api/v1/models/{model}/askings/{asking}/sign-off', { params: { path: at(w) } })),
  })
const withdraw = (w: Asking) =>
  ask({
    title: `Withdraw #${w.edition}`,
    text: `It no longer waits to be ${words(w.standing)}. It stays in the catalogue.`,
    button: 'Withdraw',
    needed: false,
    act: (why) =>
      answer(client.DELETE('/api/v1/models/{model}/askings/{asking}', { params: { path: at(w), query: { why } } })),
  })
const goBack = (s: Standing) =>
  ask({
    title: `Put #${s.before} back ${words(s.name)}`,
    text: `#${s.before} is ${words(s.name)} at once, in place of ${s.edition ? `#${s.edition}` : 'none'}.`,
    button: 'Put back',
    needed: true,
    act: (why) =>
      answer(
        client.POST('/api/v1/models/{model}/standings/{standing}/back', {
          params: { path: { model: props.model, standing: s.name } },
          body: { instead_of: s.edition ?? 0, why },
        }),
      ),
  })
const propose = (e: Edition, s: Standing) =>
  ask({
    title: `Ask that #${e.number} is ${words(s.name)}`,
    text: s.approvers
      ? `It waits until ${s.approvers === 1 ? 'another person has' : `${s.approvers} others have`} signed off.`
      : s.checks?.length
        ? 'It waits until its checks have passed.'
        : 'It is at once.',
    button: 'Ask',
    needed: false,
    act: (why) =>
      answer(
        client.PUT('/api/v1/models/{model}/standings/{standing}', {
          params: { path: { model: props.model, standing: s.name } },
          body: { edition: e.number, instead_of: s.edition ?? 0, why },
        }),
      ),
  })
const free = (e: Edition) =>
  (shown.value?.standings ?? []).filter(
    (s) => s.edition !== e.number && !shown.value?.waiting?.some((w) => w.standing === s.name),
  )
const late = (behind: number) =>
  behind === 0
    ? 'in use'
    : behind < 0
      ? 'never in use'
      : behind === 1
        ? 'one edition behind'
        : `${behind} editions behind`
</script>

<template>
  <main>
    <PageProblem :problem="problem" :missing="!shown" :name="model" />
    <template v-if="shown">
      <div class="page-head">
        <div>
          <div class="mono small">{{ shown.name }}</div>
          <h1>{{ shown.title || shown.name }}</h1>
        </div>
        <p class="small purpose">
          {{ shown.purpose ? `${shown.purpose}; ` : '' }}made by {{ shown.who }}, roles of
          <RouterLink :to="{ name: 'runs', params: { project: shown.project } }">{{ shown.project }}</RouterLink>
        </p>
      </div>

      <Question title="What is in use?" :says="shown.says.in_use">
        <template #aside>
          <p v-if="shown.says.waiting" class="small">{{ shown.says.waiting }}</p>
        </template>
        <div class="fields">
          <section v-for="s in shown.standings" :key="s.name" :class="{ held: s.edition }" class="field">
            <div class="small">{{ words(s.name) }}{{ s.approvers ? ', guarded' : '' }}</div>
            <template v-if="s.edition">
              <h3>
                <RouterLink :to="link(s.edition)">#{{ s.edition }}</RouterLink>
              </h3>
              <div class="mono">{{ s.origin }}</div>
              <p class="small">
                {{ s.figure }}
                <br />
                since {{ when(s.since!) }}, by {{ s.who + (s.why ? ':' : '') }}
                <em v-if="s.why">“{{ s.why }}”</em>
                <template v-if="s.sign_offs?.length">
                  <br />
                  signed off by {{ s.sign_offs.map((o) => o.who).join(', ') }}
                </template>
              </p>
              <code class="mono">kembrel restore {{ s.address }}</code>
            </template>
            <p v-else class="small">none</p>
            <p v-if="s.before && (s.approvers ? shown.may?.sign_off : shown.may?.enter)">
              <ElButton size="small" @click="goBack(s)">Put #{{ s.before }} back …</ElButton>
            </p>
          </section>
          <section v-for="w in shown.waiting" :key="w.id" class="field waits">
            <div class="small">
              proposed,
              {{ signs(w) }} for
              <strong>{{ words(w.standing) }}</strong>
            </div>
            <h3>
              <RouterLink :to="link(w.edition)">#{{ w.edition }}</RouterLink>
            </h3>
            <div class="mono">{{ edition(w.edition)?.origin }}</div>
            <p class="small">
              {{ figure(w.edition) }}
              <br />
              asked {{ when(w.asked) }} by {{ w.who + (w.why ? ':' : '') }}
              <em v-if="w.why">“{{ w.why }}”</em>
              <template v-for="s in w.sign_offs" :key="s.who">
                <br />
                {{ s.counts ? 'signed off by' : 'not counted:' }} {{ s.who }}
                <em>“{{ s.why }}”</em>
                <template v-if="!s.counts">({{ not[s.not ?? ''] }})</template>
              </template>
            </p>
            <p>
              <ElButton
                v-if="shown.may?.sign_off && !mine(w) && !signedByMe(w)"
                type="primary"
                size="small"
                @click="signOff(w)"
              >
                Sign off …
              </ElButton>
              <ElButton v-if="signedByMe(w)" size="small" @click="unsign(w)">Withdraw sign-off …</ElButton>
              <ElButton v-if="shown.may?.enter" size="small" @click="withdraw(w)">Withdraw …</ElButton>
            </p>
            <p v-if="!shown.may?.sign_off || mine(w)" class="small">
              {{ mine(w) ? 'You asked for it, so others sign off:' : 'May sign off:' }}
              {{ (shown.may?.approvers ?? []).filter((a) => a !== w.who).join(', ') || 'nobody' }}.
            </p>
          </section>
        </div>
      </Question>

      <Question title="What runs where?" :says="shown.says.where">
        <table v-if="shown.consumers?.length">
          <thead>
            <tr>
              <th>Where</th>
              <th>Edition</th>
              <th>Since</th>
              <th>Last heard</th>
              <th>State</th>
              <th>Reported by</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="c in shown.consumers" :key="c.where">
              <td>{{ c.where }}</td>
              <td>
                <RouterLink class="mono" :to="link(c.edition)">#{{ c.edition }}</RouterLink>
              </td>
              <td class="small">{{ when(c.since) }}</td>
              <td class="small">{{ when(c.heard) }}</td>
              <td :class="c.behind > 0 ? 'warn' : 'small'">{{ c.behind > 0 ? '▲ ' : '' }}{{ late(c.behind) }}</td>
              <td class="small">{{ c.who }}</td>
            </tr>
          </tbody>
        </table>
        <pre v-else class="command">kembrel catalogue report-use {{ shown.name }}/in-use --where harbour-north</pre>
      </Question>

      <Question v-if="checked" :title="`Has #${checked.number} been checked?`">
        <Checks :edition="checked" :wanted="leading?.checks ?? []" />
      </Question>

      <Question v-if="editions.length && leading" title="How did it come here?">
        <template #aside>
          <p class="small">Each line an edition; thick while it was {{ words(leading.name) }}.</p>
        </template>
        <History :editions="editions" :history="shown.history ?? []" :standing="leading.name" />
        <table v-if="shown.history?.length">
          <thead>
            <tr>
              <th>Standing</th>
              <th>Edition</th>
              <th>Since</th>
              <th>Until</th>
              <th>By</th>
              <th>Signed off by</th>
              <th>Why</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="h in shown.history" :key="h.standing + h.since">
              <td>{{ words(h.standing) }}</td>
              <td class="mono">{{ h.edition ? '#' + h.edition : 'none' }}</td>
              <td class="small">{{ when(h.since) }}</td>
              <td class="small">{{ h.until ? when(h.until) : 'today' }}</td>
              <td class="small">{{ h.who }}</td>
              <td class="small">{{ (h.sign_offs ?? []).map((s) => s.who).join(', ') }}</td>
              <td class="small long">{{ h.why }}</td>
            </tr>
          </tbody>
        </table>
      </Question>

      <Question title="Which editions are there?">
        <table v-if="editions.length">
          <thead>
            <tr>
              <th>Edition</th>
              <th>Checkpoint</th>
              <th>Standing</th>
              <th>Figure</th>
              <th>Checks</th>
              <th>Entered</th>
              <th>Why</th>
              <th>Ask that it is</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="e in editions" :key="e.number">
              <td>
                <RouterLink class="mono" :to="link(e)">#{{ e.number }}</RouterLink>
              </td>
              <td class="mono">
                <template v-if="e.run_gone">{{ e.origin }}</template>
                <RouterLink v-else :to="linkTo(e.origin)">{{ e.origin }}</RouterLink>
              </td>
              <td>{{ e.standings?.map(words).join(', ') }}</td>
              <td class="mono">{{ figure(e.number) }}</td>
              <td class="small">
                {{ e.checks?.length ? `${e.checks.filter((c) => c.passed).length} of ${e.checks.length} passed` : '' }}
              </td>
              <td class="small">{{ when(e.entered) }}, {{ e.who }}</td>
              <td class="small long">{{ e.why }}</td>
              <td>
                <template v-if="shown.may?.enter">
                  <ElButton v-for="s in free(e)" :key="s.name" size="small" @click="propose(e, s)">
                    {{ words(s.name) }} …
                  </ElButton>
                </template>
                <span v-else class="small">members may</span>
              </td>
            </tr>
          </tbody>
        </table>
        <pre v-else class="command">kembrel catalogue add {{ shown.project }}/3@best --model {{ shown.name }}</pre>
      </Question>
      <Rules :model="shown" />
      <Reason v-if="doing" v-model="asking" v-bind="doing" />
    </template>
  </main>
</template>

<style scoped>
.purpose {
  margin: 0 0 3px;
  max-width: 720px;
}
.purpose a {
  text-decoration: underline;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(260px, 1fr));
  gap: 26px;
}
.field {
  border-top: 3px solid var(--rule2);
  padding-top: 12px;
}
.field.held {
  border-top-color: var(--accent);
}
.field.waits {
  border-top: 3px dashed var(--warn);
}
h3 {
  font-size: 19px;
  margin: 2px 0;
}
h3 a {
  color: var(--ink);
}
.field p {
  margin: 6px 0;
}
.long {
  white-space: normal;
}
</style>
