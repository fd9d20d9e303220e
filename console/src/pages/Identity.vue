<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { api, take, type Schemas } from '@/api/client'
import ChangeList from '@/components/ChangeList.vue'
import Fetched from '@/components/Fetched.vue'
import GroupList from '@/components/GroupList.vue'
import LifecyclePanel from '@/components/LifecyclePanel.vue'
import Mark from '@/components/Mark.vue'
import PasswordSet from '@/components/PasswordSet.vue'
import ReadNow from '@/components/ReadNow.vue'
import { useFetched } from '@/components/fetched'
import { useNow } from '@/components/now'
import { freshness, text, time, values } from '@/words'

const props = defineProps<{ id: string }>()
const now = useNow()
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/identities/{id}', { params: { path: { id: props.id } } })),
  (event) =>
    (event.event === 'change_set' && event.state === 'done') ||
    (event.event === 'full_read' && event.state !== 'running'),
)
const passwords = useFetched(() => take(api.GET('/api/v1/passwords')))
const notifications = useFetched(() =>
  take(api.GET('/api/v1/notifications', { params: { query: { identity: props.id } } })),
)
const mine = computed(() => (passwords.data.value ?? []).filter((one) => one.identity === props.id))
const shown = ref<Record<number, string>>({})
const refused = ref('')
/** Shows it once: the service deletes it with this answer. */
async function show(id: number) {
  try {
    const answer = await take(api.POST('/api/v1/passwords/{id}/show', { params: { path: { id } } }))
    shown.value[id] = answer.password
    await passwords.load()
  } catch (problem) {
    refused.value = (problem as Error).message
  }
}
/** A long list is abbreviated. */
const some = (all: string[]) =>
  all.length > 4 ? `${values(all.slice(0, 3))} and ${all.length - 3} more` : values(all)
const tones: Record<Schemas['ValueState'], string> = {
  in_sync: 'good',
  will_be_set: 'calm',
  would_be_set: 'calm',
  differs: 'faint',
  left_alone: 'faint',
  no_value: 'faint',
}
const tone = (state: Schemas['ValueState'] | null | undefined) => (state ? tones[state] : '')
</script>

<template>
  <Fetched :loading="loading" :error="error" @retry="load">
    <template v-if="data">
      <div class="row">
        <h1>{{ data.explanation.label }}</h1>
        <Mark v-if="data.explanation.stage" :word="data.explanation.stage" />
      </div>
      <p class="faint mono">{{ data.explanation.identity }}</p>

      <GroupList v-if="data.object === 'group'" :id="id" />
      <LifecyclePanel v-else :id="id" :label="data.explanation.label" @changed="load" />

      <section class="sheet">
        <h2>Values and their sources</h2>
        <table class="plain values">
          <thead>
            <tr>
              <th class="of">Attribute</th>
              <th class="is">Value</th>
              <th class="from">Source</th>
              <th>Reason</th>
              <th class="place">Rule</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="value in data.explanation.values" :key="value.attribute">
              <td>{{ value.attribute }}</td>
              <td>
                <strong>{{ value.value }}</strong>
              </td>
              <td>{{ value.from_system ?? value.note }}</td>
              <td>
                <code>{{ value.expression }}</code>
                <div class="faint">
                  <span v-for="read in value.read" :key="read.name"
                    >{{ read.name }}: {{ some(read.values) }}&ensp;</span
                  >
                </div>
              </td>
              <td class="faint mono">{{ value.rule }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="!data.explanation.values.length" class="faint">
          No source supplies it now; it keeps its last values.
        </p>
      </section>

      <section v-if="mine.length" class="sheet">
        <h2>First passwords</h2>
        <p v-for="one in mine" :key="one.id" class="row">
          <strong>{{ one.system }}</strong> <span class="mono">{{ one.account }}</span>
          <template v-if="shown[one.id]"
            ><code class="password">{{ shown[one.id] }}</code>
            <span class="faint">Copy it now: it is not shown again.</span></template
          >
          <span v-else-if="one.shown_at" class="faint"
            >shown {{ time(one.shown_at) }} to {{ one.shown_to }}</span
          >
          <span v-else-if="one.error" class="bad">not delivered yet: {{ one.error }}</span>
          <Button v-else label="Show once" size="small" severity="secondary" @click="show(one.id)" />
        </p>
        <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
      </section>

      <section v-for="account in data.explanation.accounts" :key="account.system + account.key" class="sheet">
        <div class="row">
          <h2 class="system">{{ account.system }}</h2>
          <Mark :word="account.verdict" />
          <span>{{ account.reason.text }}</span>
          <span class="faint mono">{{ account.rule }}</span>
          <span v-if="account.freshness" class="age faint">
            data age: {{ freshness(account.freshness, now) }}
            <ReadNow v-if="!account.freshness.connected" :systems="[account.system]" @read="load" />
          </span>
        </div>
        <p v-if="account.name" class="wrap">
          <span class="mono">{{ account.name }}</span> <span class="faint">key {{ account.key }}</span>
          <span v-if="account.linked_by" class="faint"> · linked by {{ account.linked_by }}</span>
        </p>
        <p v-else class="faint">No account.</p>
        <table v-if="account.values.length" class="plain">
          <thead>
            <tr>
              <th>Attribute</th>
              <th>Current value</th>
              <th>Value by the rules</th>
              <th>Status</th>
              <th>Reason</th>
              <th>Rule</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="value in account.values" :key="value.attribute">
              <td>{{ value.attribute }}</td>
              <td>{{ value.current }}</td>
              <td>{{ value.value }}</td>
              <td :class="tone(value.state)">{{ value.state ? text(value.state) : '' }}</td>
              <td>
                <code>{{ value.expression }}</code> <span class="faint">{{ value.note }}</span>
              </td>
              <td class="faint mono">{{ value.rule }}</td>
            </tr>
          </tbody>
        </table>
      </section>

      <GroupList v-if="data.object !== 'group'" :id="id" />
      <PasswordSet v-if="data.object === 'person' && data.explanation.stage !== 'left'" :id="id" />

      <section v-if="notifications.data.value?.length" class="sheet">
        <h2>Notifications</h2>
        <p v-for="one in notifications.data.value" :key="one.id">
          {{ time(one.created_at) }} · <strong>{{ one.event }}</strong> · to {{ one.recipients.join(', ') }}:
          {{ one.text }}
          <span v-if="one.answer" class="faint">
            · answered <code>{{ one.answer }}</code></span
          >
        </p>
      </section>

      <section class="sheet">
        <h2>Links</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>System</th>
              <th>Account</th>
              <th>Linked</th>
              <th>By</th>
              <th>Ended</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="link in data.links" :key="link.system + link.created_at">
              <td>{{ link.system }}</td>
              <td>{{ link.account }}</td>
              <td>{{ time(link.created_at) }}</td>
              <td>{{ link.created_by }}</td>
              <td>{{ link.ended_at ? `${time(link.ended_at)}: ${link.ended_by}` : '—' }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="!data.links.length" class="faint">None yet: the next run creates them.</p>
      </section>

      <section class="sheet">
        <h2>History</h2>
        <ChangeList :changes="data.history" nameless />
        <p v-if="!data.history.length" class="faint">No changes yet.</p>
      </section>
    </template>
  </Fetched>
</template>

<style scoped>
.values {
  table-layout: fixed;
}
.of {
  width: 9.5rem;
}
.is {
  width: 17rem;
}
.from {
  width: 8rem;
}
.place {
  width: 10.5rem;
}
.system {
  margin: 0;
}
.age {
  display: flex;
  gap: 0.6rem;
  align-items: center;
  margin-left: auto;
}
.good {
  color: var(--good);
}
.calm {
  color: var(--calm);
}
</style>
