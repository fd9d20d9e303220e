<script setup lang="ts">
/** Everything that an operator must decide, with the possible answers. */
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import Textarea from 'primevue/textarea'
import { computed, ref } from 'vue'
import { api, take } from '@/api/client'
import type { DecisionAnswer, DecisionKind, Schemas } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'
import { plural } from '@/words'

const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/decisions')),
  (event) => event.event === 'attention_changed' || event.event === 'rules' || event.event === 'change_set',
)
const asked = ref<{ decision: Schemas['Decision']; answer: DecisionAnswer } | null>(null)
const trouble = ref('')

const kinds: { kind: DecisionKind; title: string; about: string }[] = [
  {
    kind: 'approval',
    title: 'Awaiting approval',
    about:
      'The rules require approval before these changes are sent. Operators cannot approve their own requests.',
  },
  {
    kind: 'guard',
    title: 'Held by guard',
    about: 'More changes of one kind than the guard’s limit. Other changes were sent.',
  },
  {
    kind: 'failed',
    title: 'Failed',
    about: 'Retried when their data change, or when you choose Retry.',
  },
  {
    kind: 'match',
    title: 'Matches that need review',
    about: 'Nothing is linked until you decide.',
  },
  {
    kind: 'drift',
    title: 'Drift',
    about: 'Drift is only reported for this system. Choose Repair to restore the rules’ values, or leave it.',
  },
  {
    kind: 'reminder',
    title: 'Reminders',
    about: 'Approvals that were requested some days ago and are still open.',
  },
  {
    kind: 'external_change',
    title: 'External changes',
    about: 'Accounts that others created, changed or deleted in a system.',
  },
  {
    kind: 'override',
    title: 'Answers in effect',
    about: 'Released, discarded, approved or rejected, and neither sent nor expired yet.',
  },
]
const waiting = computed(() => (data.value ?? []).filter((one) => one.kind !== 'override').length)
const groups = computed(() =>
  kinds
    .map((group) => ({ ...group, items: (data.value ?? []).filter((one) => one.kind === group.kind) }))
    .filter((group) => group.items.length),
)
const comment = ref('')
/** The chosen offers of a decision. */
const chosen = ref<string[]>([])
const offers = computed(() => (asked.value?.answer === 'approve' ? (asked.value.decision.offers ?? []) : []))
const chooseUpTo = computed(() => asked.value?.decision.choose_up_to ?? 1)
const isInvalid = computed(
  () => offers.value.length > 0 && (!chosen.value.length || chosen.value.length > chooseUpTo.value),
)
const labels: Record<DecisionAnswer, string> = {
  approve: 'Approve…',
  reject: 'Reject…',
  reopen: 'Reopen',
  repair: 'Repair…',
  release: 'Release…',
  discard: 'Discard…',
  retry: 'Retry',
  take_back: 'Take back',
  acknowledge: 'Acknowledge',
}
const severity = (answer: DecisionAnswer) =>
  ['release', 'repair'].includes(answer) ? 'danger' : answer === 'approve' ? undefined : 'secondary'
const more = (one: Schemas['Decision']) => Math.max(0, one.count - one.names.length)

async function send(decision: Schemas['Decision'], answer: DecisionAnswer) {
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
const dialogs: Partial<
  Record<DecisionAnswer, { header: string; about: string; button: (count: number) => string }>
> = {
  approve: {
    header: 'Approve?',
    about: 'The next run sends them once every level has approved. Your comment is kept in the journal.',
    button: (count) => (count > 1 ? `Approve these ${count}` : 'Approve'),
  },
  reject: {
    header: 'Reject?',
    about: 'None of them is sent while it stays the same. Your comment is shown with them.',
    button: (count) => (count > 1 ? `Reject these ${count}` : 'Reject'),
  },
  release: {
    header: 'Release?',
    about: 'The next run sends all of them in spite of the guard. Nothing else is released.',
    button: (count) => `Release these ${count}`,
  },
  discard: {
    header: 'Discard?',
    about: 'None of them is sent while it stays the same. New changes need an answer of their own.',
    button: (count) => `Discard these ${count}`,
  },
  repair: {
    header: 'Repair?',
    about: 'The values that were changed in the system are overwritten with the rules’ values.',
    button: (count) => (count > 1 ? `Repair these ${count}` : 'Repair'),
  },
}
const dialog = computed(() => (asked.value ? dialogs[asked.value.answer] : undefined))
/** Answers that send, discard or overwrite changes are confirmed first. */
function ask(decision: Schemas['Decision'], answer: DecisionAnswer) {
  comment.value = ''
  chosen.value = []
  if (dialogs[answer]) asked.value = { decision, answer }
  else void send(decision, answer)
}
</script>

<template>
  <h1>Decisions</h1>
  <p v-if="trouble" class="sheet trouble" role="alert">{{ trouble }}</p>
  <Fetched :loading="loading" :error="error" :empty="!data?.length" @retry="load">
    <template #empty>No decisions are pending.</template>
    <p class="faint">
      {{
        waiting === 0
          ? 'No decisions are pending.'
          : `${plural(waiting, 'decision')} pending. Everything else continues.`
      }}
    </p>
    <section v-for="group in groups" :key="group.kind" class="sheet group" :aria-labelledby="group.kind">
      <h2 :id="group.kind">{{ group.title }}</h2>
      <p class="faint">{{ group.about }}</p>
      <article v-for="one in group.items" :key="one.id">
        <div>
          <strong>{{ one.title }}</strong>
          <div class="message">{{ one.message }}</div>
          <div v-if="one.names.length && (one.count > 1 || one.kind === 'match')" class="faint">
            <template v-for="(name, at) in one.names" :key="at"
              ><template v-if="at">, </template><bdi>{{ name }}</bdi></template
            ><template v-if="more(one)"> and {{ more(one) }} more</template>
          </div>
        </div>
        <p v-if="one.blocked" class="faint blocked">You cannot answer this: {{ one.blocked }}.</p>
        <div v-else class="row">
          <Button
            v-for="answer in one.answers"
            :key="answer"
            :label="labels[answer] ?? answer"
            size="small"
            :severity="severity(answer)"
            @click="ask(one, answer)"
          />
          <RouterLink v-if="one.kind === 'match'" :to="{ name: 'matches', params: { name: one.system } }"
            >Review</RouterLink
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
      <p class="faint">{{ asked.decision.message }}</p>
      <fieldset v-if="offers.length" class="offers">
        <legend>
          {{ chooseUpTo === 1 ? 'Choose one' : `Choose up to ${chooseUpTo}` }}; the others are rejected
        </legend>
        <label v-for="offer in offers" :key="offer.id">
          <input
            v-if="chooseUpTo === 1"
            type="radio"
            name="offer"
            :checked="chosen[0] === offer.id"
            @change="chosen = [offer.id]"
          />
          <input v-else v-model="chosen" type="checkbox" :value="offer.id" />
          <bdi>{{ offer.text }}</bdi>
        </label>
      </fieldset>
      <label v-if="['approve', 'reject'].includes(asked.answer)" class="words">
        Comment (optional)
        <Textarea v-model="comment" rows="2" maxlength="500" fluid />
      </label>
      <div class="row">
        <Button
          :label="dialog?.button(offers.length ? chosen.length : asked.decision.count)"
          :disabled="isInvalid"
          :severity="severity(asked.answer)"
          @click="send(asked.decision, asked.answer)"
        />
        <Button label="Cancel" severity="secondary" @click="asked = null" />
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
.message {
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
