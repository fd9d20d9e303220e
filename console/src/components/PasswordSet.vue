<script setup lang="ts">
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { api, take } from '@/api/client'
import { useFetched } from '@/components/fetched'
import { time } from '@/words'

/** Sets a password in all linked systems. */
const props = defineProps<{ id: string }>()
const { data, load } = useFetched(
  () => take(api.GET('/api/v1/identities/{id}/password', { params: { path: { id: props.id } } })),
  (event) => event.event === 'change_set',
)
const password = ref('')
const mustChange = ref(false)
const busy = ref(false)
const refused = ref('')
const last = computed(() => data.value?.[0])
async function set() {
  busy.value = true
  try {
    await take(
      api.PUT('/api/v1/identities/{id}/password', {
        params: { path: { id: props.id } },
        body: { password: password.value, must_change: mustChange.value },
      }),
    )
    refused.value = ''
    await load()
  } catch (problem) {
    refused.value = (problem as Error).message
  } finally {
    // The password must not stay in the page.
    password.value = ''
    busy.value = false
  }
}
</script>

<template>
  <section class="sheet">
    <h2>Password</h2>
    <form class="row" @submit.prevent="set">
      <label for="new-password">New password for all linked systems</label>
      <InputText id="new-password" v-model="password" type="password" autocomplete="new-password" />
      <Checkbox v-model="mustChange" binary input-id="must-change" />
      <label for="must-change">must change at next sign-in</label>
      <Button
        type="submit"
        label="Set password"
        size="small"
        :disabled="password.length < 8"
        :loading="busy"
      />
    </form>
    <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
    <p v-if="last" class="faint">
      Set {{ time(last.created_at) }} {{ last.origin ? `in ${last.origin}` : 'by an operator' }}:
      <template v-if="last.outcome">{{ last.outcome }}.</template>
      <template v-else-if="last.is_settled">stored in all accounts.</template>
      <template v-else-if="last.missing.length">pending in {{ last.missing.join(', ') }}.</template>
      <template v-else>pending: the account is not linked to an identity yet.</template>
    </p>
    <p v-for="(answer, system) in last?.refused ?? {}" :key="system" class="bad">
      Rejected by {{ system }}: {{ answer }}
    </p>
  </section>
</template>

<style scoped>
.bad {
  color: var(--bad);
}
p {
  margin-bottom: 0;
}
</style>
