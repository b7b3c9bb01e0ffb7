<script setup lang="ts">
import { ElButton } from 'element-plus'
import { onScopeDispose, ref, watch } from 'vue'
import { answer, client, type EnteringRule, type Model } from '../api/client'
import Question from '../shared/Question.vue'
import { when } from '../shared/format'
import { useActing, useLoading } from '../shared/loading'
import NewRule from './NewRule.vue'
import RuleRuns from './RuleRuns.vue'

/** The rules by which runs enter a model by themselves, and what they made of runs. */
const props = defineProps<{ model: Model }>()
const rules = ref<EnteringRule[]>()
const making = ref(false)
const { problem, loader } = useLoading()
const path = () => ({ model: props.model.name })
const load = loader(async () => {
  rules.value = (await answer(client.GET('/api/v1/models/{model}/rules', { params: { path: path() } }))).items ?? []
})
watch(() => props.model, load, { immediate: true })
// what became of a run is known a moment after the edition that was made of it, or without any
const again = window.setInterval(
  () => document.visibilityState === 'visible' && rules.value?.length && void load(),
  3000,
)
onScopeDispose(() => clearInterval(again))
const { refused, act } = useActing(load)
const clear = (rule: EnteringRule) =>
  act(() =>
    answer(
      client.DELETE('/api/v1/models/{model}/rules/{rule}', { params: { path: { ...path(), rule: rule.number } } }),
    ),
  )
</script>

<template>
  <Question
    title="What enters by itself?"
    :says="
      rules?.length
        ? `Runs that end enter it by ${rules.length === 1 ? 'one rule' : `${rules.length} rules`}.`
        : 'Nothing: people and machines enter editions.'
    "
  >
    <template #aside>
      <p v-if="model.may?.change"><ElButton size="small" @click="making = true">Make a rule …</ElButton></p>
      <p v-else class="small">Owners of {{ model.project }} make rules.</p>
    </template>
    <p v-if="problem || refused" class="bad" role="alert">{{ problem || refused }}</p>
    <section v-for="rule in rules" :key="rule.number" class="rule">
      <p>
        <strong>Rule {{ rule.number }}.</strong>
        {{ rule.says }}
        <span class="small">Made by {{ rule.who }}, {{ when(rule.created) }}; runs enter in that name.</span>
        <ElButton
          v-if="model.may?.change"
          link
          size="small"
          :aria-label="`Clear rule ${rule.number}`"
          @click="clear(rule)"
        >
          Clear
        </ElButton>
      </p>
      <p v-if="rule.idle" class="warn">▲ {{ rule.idle }}</p>
      <RuleRuns v-if="rule.did?.length" :runs="rule.did" :model="model.name" />
      <p v-else class="small">No run that fulfils it has ended since.</p>
    </section>
    <NewRule v-model="making" :model="model" @made="load" />
  </Question>
</template>

<style scoped>
.rule + .rule {
  border-top: 1px solid var(--rule2);
  margin-top: 14px;
}
.rule p {
  margin: 8px 0;
}
</style>
