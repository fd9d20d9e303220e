<script setup lang="ts">
/** What waits for a person, in one list, with what can be said. */
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import { computed, ref } from 'vue'
import { api, take } from '@/api/client'
import type { Schemas } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'

const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/decisions')),
  (event) => event.event === 'noticed' || event.event === 'rules' || event.event === 'change_set',
)
const asked = ref<{ decision: Schemas['Decision']; answer: string } | null>(null)
const trouble = ref('')

const kinds: { kind: string; title: string; about: string }[] = [
  {
    kind: 'guard',
    title: 'Held by a guard',
    about: 'More changes of a kind than its limit lets pass. The harmless ones went on.',
  },
  {
    kind: 'parked',
    title: 'Failed for good',
    about: 'It is tried again when its data change, or when you say so.',
  },
  {
    kind: 'match',
    title: 'Doubtful matches',
    about: 'An account may be somebody’s; nothing joins before it is said.',
  },
  {
    kind: 'surprise',
    title: 'Done behind our back',
    about: 'Somebody changed, made or deleted accounts in a system itself.',
  },
]
const groups = computed(() =>
  kinds
    .map((group) => ({ ...group, items: (data.value ?? []).filter((one) => one.kind === group.kind) }))
    .filter((group) => group.items.length),
)
const labels: Record<string, string> = {
  release: 'Let them through…',
  discard: 'Discard them…',
  retry: 'Try again',
  seen: 'I have seen it',
}
const more = (one: Schemas['Decision']) => Math.max(0, one.count - one.names.length)

async function say(decision: Schemas['Decision'], answer: string) {
  asked.value = null
  trouble.value = ''
  try {
    await take(api.POST('/api/v1/decisions', { body: { id: decision.id, answer } }))
  } catch (problem) {
    trouble.value = (problem as Error).message
  }
  await load()
}
/** What sends or drops many changes shows first how many. */
function ask(decision: Schemas['Decision'], answer: string) {
  if (answer === 'release' || answer === 'discard') asked.value = { decision, answer }
  else void say(decision, answer)
}
</script>

<template>
  <h1>Decisions</h1>
  <p v-if="trouble" class="sheet trouble" role="alert">{{ trouble }}</p>
  <Fetched :loading="loading" :error="error" :empty="!data?.length" @retry="load">
    <template #empty>Nothing waits for you.</template>
    <p class="faint">{{ data?.length }} things wait for a person. Everything else goes on without you.</p>
    <section v-for="group in groups" :key="group.kind" class="sheet group" :aria-labelledby="group.kind">
      <h2 :id="group.kind">{{ group.title }}</h2>
      <p class="faint">{{ group.about }}</p>
      <article v-for="one in group.items" :key="one.id">
        <div>
          <strong>{{ one.title }}</strong>
          <div class="said">{{ one.said }}</div>
          <div v-if="one.names.length && one.kind !== 'parked'" class="faint">
            <template v-for="(name, at) in one.names" :key="at"
              ><template v-if="at">, </template><bdi>{{ name }}</bdi></template
            ><template v-if="more(one)"> and {{ more(one) }} more</template>
          </div>
        </div>
        <div class="row">
          <Button
            v-for="answer in one.answers"
            :key="answer"
            :label="labels[answer] ?? answer"
            size="small"
            :severity="answer === 'release' ? 'danger' : 'secondary'"
            @click="ask(one, answer)"
          />
          <RouterLink v-if="one.kind === 'match'" :to="{ name: 'match', params: { name: one.system } }"
            >Look and answer</RouterLink
          >
        </div>
      </article>
    </section>
  </Fetched>
  <Dialog
    :visible="asked !== null"
    modal
    :header="asked?.answer === 'release' ? 'Let them through?' : 'Discard them?'"
    :style="{ width: '32rem' }"
    @update:visible="asked = null"
  >
    <template v-if="asked">
      <p>
        <strong>{{ asked.decision.title }}.</strong>
        {{
          asked.answer === 'release'
            ? 'All of them are sent with the next run, in spite of the guard. Nothing else is let through by this.'
            : 'None of them is sent while it stays the same. What is decided anew is asked about again.'
        }}
      </p>
      <div class="row">
        <Button
          :label="
            asked.answer === 'release'
              ? `Send these ${asked.decision.count}`
              : `Discard these ${asked.decision.count}`
          "
          :severity="asked.answer === 'release' ? 'danger' : 'secondary'"
          @click="say(asked.decision, asked.answer)"
        />
        <Button label="Not yet" severity="secondary" @click="asked = null" />
      </div>
    </template>
  </Dialog>
</template>

<style scoped>
.group {
  margin-bottom: 1rem;
}
.group h2 {
  margin-bottom: 0;
}
article {
  display: flex;
  justify-content: space-between;
  align-items: start;
  gap: 1.5rem;
  padding: 0.7rem 0;
  border-top: 1px solid var(--line);
}
.said {
  max-width: 46rem;
}
.trouble {
  border-left: 4px solid var(--bad);
  margin-bottom: 0.8rem;
}
</style>
