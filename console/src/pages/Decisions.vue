<script setup lang="ts">
/** What waits for a person, in one list, with what can be said. */
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import Textarea from 'primevue/textarea'
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
    kind: 'approval',
    title: 'Waits for a yes',
    about: 'The rules ask before these are sent. Whoever asked does not answer.',
  },
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
    kind: 'drift',
    title: 'Changed in a system itself',
    about: 'The rules only tell it here. It is put right when you say so, or stays as it is.',
  },
  {
    kind: 'reminder',
    title: 'Reminders',
    about: 'What was asked some days ago and still waits.',
  },
  {
    kind: 'surprise',
    title: 'Done behind our back',
    about: 'Somebody changed, made or deleted accounts in a system itself.',
  },
  {
    kind: 'override',
    title: 'Answers that still hold',
    about: 'What was released, discarded, approved or refused, and is not sent or over yet.',
  },
]
const waiting = computed(() => (data.value ?? []).filter((one) => one.kind !== 'override').length)
const groups = computed(() =>
  kinds
    .map((group) => ({ ...group, items: (data.value ?? []).filter((one) => one.kind === group.kind) }))
    .filter((group) => group.items.length),
)
const comment = ref('')
/** What is chosen of the offers of a decision. */
const chosen = ref<string[]>([])
const offers = computed(() => (asked.value?.answer === 'approve' ? (asked.value.decision.offers ?? []) : []))
const most = computed(() => asked.value?.decision.most ?? 1)
const unfit = computed(
  () => offers.value.length > 0 && (!chosen.value.length || chosen.value.length > most.value),
)
const labels: Record<string, string> = {
  approve: 'Yes…',
  refuse: 'No…',
  'ask-again': 'Ask again',
  repair: 'Put it right…',
  release: 'Let them through…',
  discard: 'Discard them…',
  retry: 'Try again',
  'take-back': 'Take back',
  seen: 'I have seen it',
}
const severity = (answer: string) =>
  ['release', 'repair'].includes(answer) ? 'danger' : answer === 'approve' ? undefined : 'secondary'
const more = (one: Schemas['Decision']) => Math.max(0, one.count - one.names.length)

async function say(decision: Schemas['Decision'], answer: string) {
  asked.value = null
  trouble.value = ''
  try {
    const body = { id: decision.id, answer, comment: comment.value, chosen: chosen.value }
    await take(api.POST('/api/v1/decisions', { body }))
  } catch (problem) {
    trouble.value = (problem as Error).message
  }
  await load()
}
const dialogs: Record<string, { header: string; about: string; button: (count: number) => string }> = {
  approve: {
    header: 'Say yes?',
    about:
      'They are sent with the next run once every level has said so. Your words are kept in the journal.',
    button: (count) => (count === 0 ? 'Yes' : count === 1 ? 'Yes, send it' : `Yes, send these ${count}`),
  },
  refuse: {
    header: 'Say no?',
    about: 'None of them is sent while it stays the same; whoever looks at them sees your words.',
    button: (count) => (count === 1 ? 'No' : `No to these ${count}`),
  },
  release: {
    header: 'Let them through?',
    about:
      'All of them are sent with the next run, in spite of the guard. Nothing else is let through by this.',
    button: (count) => `Send these ${count}`,
  },
  discard: {
    header: 'Discard them?',
    about: 'None of them is sent while it stays the same. What is decided anew is asked about again.',
    button: (count) => `Discard these ${count}`,
  },
  repair: {
    header: 'Put it right?',
    about: 'What somebody changed there by hand is written over with what the rules want.',
    button: (count) => (count === 1 ? 'Write it over' : `Write these ${count} over`),
  },
}
const dialog = computed(() => (asked.value ? dialogs[asked.value.answer] : undefined))
/** What sends, drops or overwrites changes shows first what becomes of them. */
function ask(decision: Schemas['Decision'], answer: string) {
  comment.value = ''
  chosen.value = []
  if (dialogs[answer]) asked.value = { decision, answer }
  else void say(decision, answer)
}
</script>

<template>
  <h1>Decisions</h1>
  <p v-if="trouble" class="sheet trouble" role="alert">{{ trouble }}</p>
  <Fetched :loading="loading" :error="error" :empty="!data?.length" @retry="load">
    <template #empty>Nothing waits for you.</template>
    <p class="faint">
      {{
        waiting === 0
          ? 'Nothing waits for you.'
          : waiting === 1
            ? '1 thing waits for a person. Everything else goes on without you.'
            : `${waiting} things wait for a person. Everything else goes on without you.`
      }}
    </p>
    <section v-for="group in groups" :key="group.kind" class="sheet group" :aria-labelledby="group.kind">
      <h2 :id="group.kind">{{ group.title }}</h2>
      <p class="faint">{{ group.about }}</p>
      <article v-for="one in group.items" :key="one.id">
        <div>
          <strong>{{ one.title }}</strong>
          <div class="said">{{ one.said }}</div>
          <div v-if="one.names.length && (one.count > 1 || one.kind === 'match')" class="faint">
            <template v-for="(name, at) in one.names" :key="at"
              ><template v-if="at">, </template><bdi>{{ name }}</bdi></template
            ><template v-if="more(one)"> and {{ more(one) }} more</template>
          </div>
        </div>
        <p v-if="one.blocked" class="faint blocked">Not for you to answer: {{ one.blocked }}.</p>
        <div v-else class="row">
          <Button
            v-for="answer in one.answers"
            :key="answer"
            :label="labels[answer] ?? answer"
            size="small"
            :severity="severity(answer)"
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
    :header="dialog?.header"
    :style="{ width: '32rem' }"
    @update:visible="asked = null"
  >
    <template v-if="asked">
      <p>
        <strong>{{ asked.decision.title }}.</strong>
        {{ dialog?.about }}
      </p>
      <p class="faint">{{ asked.decision.said }}</p>
      <fieldset v-if="offers.length" class="offers">
        <legend>{{ most === 1 ? 'Choose one' : `Choose at most ${most}` }}; the others get a no</legend>
        <label v-for="offer in offers" :key="offer.id">
          <input
            v-if="most === 1"
            type="radio"
            name="offer"
            :checked="chosen[0] === offer.id"
            @change="chosen = [offer.id]"
          />
          <input v-else v-model="chosen" type="checkbox" :value="offer.id" />
          <bdi>{{ offer.text }}</bdi>
        </label>
      </fieldset>
      <label v-if="['approve', 'refuse'].includes(asked.answer)" class="words">
        In your words, if you like
        <Textarea v-model="comment" rows="2" maxlength="500" fluid />
      </label>
      <div class="row">
        <Button
          :label="dialog?.button(offers.length ? chosen.length : asked.decision.count)"
          :disabled="unfit"
          :severity="severity(asked.answer)"
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
.words {
  display: block;
  margin-bottom: 1rem;
}
.offers {
  border: 1px solid var(--line);
  margin: 0 0 1rem;
  padding: 0.5rem 0.9rem 0.7rem;
}
.offers legend {
  font-weight: 650;
  padding: 0 0.3rem;
}
.offers label {
  display: flex;
  gap: 0.6rem;
  padding: 0.2rem 0;
}
.blocked {
  max-width: 18rem;
  margin: 0;
}
.trouble {
  border-left: 4px solid var(--bad);
  margin-bottom: 0.8rem;
}
</style>
