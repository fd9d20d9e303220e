<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { useToast } from 'primevue/usetoast'
import { ref, watch } from 'vue'
import { api, take, type Schemas } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import ReadNow from '@/components/ReadNow.vue'
import StepList from '@/components/StepList.vue'
import SystemChange from '@/components/SystemChange.vue'
import SystemTiming from '@/components/SystemTiming.vue'
import SystemParts from '@/components/SystemParts.vue'
import SystemSheet from '@/components/SystemSheet.vue'
import { useFetched } from '@/components/fetched'
import { runTest, type Step } from '@/components/steps'
import { time, values } from '@/words'

const props = defineProps<{ name: string }>()
const toast = useToast()
const path = () => ({ path: { name: props.name } })
const system = useFetched(
  () => take(api.GET('/api/v1/systems/{name}', { params: path() })),
  (event) =>
    (event.event === 'system' && event.name === props.name) ||
    (event.event === 'full_read' && event.state !== 'running'),
)
const search = ref('')
const accounts = useFetched(() =>
  take(
    api.GET('/api/v1/systems/{name}/accounts', {
      params: { ...path(), query: { search: search.value, limit: 200 } },
    }),
  ),
)
watch(search, () => accounts.soon())

const busy = ref<string | null>(null)
async function act(action: string, work: () => Promise<string>) {
  busy.value = action
  try {
    toast.add({ severity: 'success', summary: await work(), life: 4000 })
    await reload()
  } catch (problem) {
    toast.add({ severity: 'error', summary: (problem as Error).message, life: 8000 })
  } finally {
    busy.value = null
  }
}
const testing = ref<Step[] | null>(null)
const test = () =>
  act('test', async () => {
    const steps: Step[] = []
    testing.value = steps
    const report = await runTest(`/api/v1/systems/${encodeURIComponent(props.name)}/test`, {}, (step) => {
      steps.push(step)
      testing.value = [...steps]
    }).finally(() => (testing.value = null))
    return report.healthy ? 'All steps passed' : 'A step failed'
  })
const reload = () => Promise.all([system.load(), accounts.load()])

const asking = ref(false)
const arming = ref(false)
async function set(state: Partial<Schemas['SystemState']>, summary: string) {
  asking.value = false
  arming.value = false
  await act('set', async () => {
    await take(
      api.PATCH('/api/v1/systems/{name}', {
        params: path(),
        body: { writable: state.writable ?? null, paused: state.paused ?? null, armed: state.armed ?? null },
      }),
    )
    return summary
  })
}
/** Identifying values, each isolated: names in different scripts must not reorder each other. */
const shown = (account: Schemas['Account']) =>
  ['displayName', 'cn', 'employeeNumber', 'enterprise.employeeNumber', 'title']
    .map((name) => account.attributes.find((a) => a.name === name)?.values)
    .filter((found) => found?.length)
    .map((found) => values(found))
</script>

<template>
  <div class="row spread head">
    <h1>{{ name }}</h1>
    <div class="row">
      <Button
        label="Test"
        icon="pi pi-check-circle"
        severity="secondary"
        :loading="busy === 'test'"
        @click="test"
      />
      <ReadNow :systems="[name]" large @read="reload" />
      <template v-if="system.data.value">
        <Button
          v-if="system.data.value.paused"
          label="Resume"
          severity="secondary"
          @click="set({ paused: false }, 'Resumed: changes are sent again')"
        />
        <Button
          v-else
          label="Pause"
          severity="secondary"
          @click="set({ paused: true }, 'Paused: nothing is sent')"
        />
        <Button
          v-if="system.data.value.armed"
          label="Disarm"
          severity="secondary"
          @click="set({ armed: false }, 'Disarmed: nothing is sent')"
        />
        <Button v-else label="Arm…" severity="secondary" @click="arming = true" />
        <Button
          v-if="system.data.value.writable.length"
          label="Make read-only"
          severity="secondary"
          @click="set({ writable: [] }, 'Read-only')"
        />
        <Button v-else label="Enable writes…" @click="asking = true" />
      </template>
    </div>
  </div>
  <Dialog v-model:visible="asking" modal :header="`Enable writes to ${name}?`" :style="{ width: '30rem' }">
    <p>
      Runs may then create, change and disable accounts of people in <strong>{{ name }}</strong>. This alone
      sends nothing: a preview shows what a run would do.
    </p>
    <div class="row">
      <Button label="Enable writes" @click="set({ writable: ['person'] }, 'Writes to people are enabled')" />
      <Button label="Cancel" severity="secondary" @click="asking = false" />
    </div>
  </Dialog>
  <Dialog v-model:visible="arming" modal :header="`Arm ${name}?`" :style="{ width: '30rem' }">
    <p>
      Runs then send their changes to <strong>{{ name }}</strong>, for the types that may be written, and
      files and events that it delivers are processed as they arrive. With automatic sync (see Schedule), its
      changes start runs. A preview shows what a run would do.
    </p>
    <div class="row">
      <Button label="Arm" @click="set({ armed: true }, 'Armed')" />
      <Button label="Cancel" severity="secondary" @click="arming = false" />
    </div>
  </Dialog>
  <Fetched :loading="system.loading.value" :error="system.error.value" @retry="system.load">
    <div v-if="system.data.value" class="two">
      <SystemSheet :system="system.data.value" />
      <section class="sheet steps">
        <h2>
          Last test <span class="faint">{{ time(system.data.value.checked_at) }}</span>
        </h2>
        <p v-if="!system.data.value.steps.length" class="faint">Not tested yet.</p>
        <StepList :steps="testing ?? system.data.value.steps" :running="busy === 'test'" />
      </section>
    </div>
  </Fetched>
  <SystemChange v-if="system.data.value" :system="system.data.value" @changed="reload" />
  <SystemTiming v-if="system.data.value" :system="system.data.value" @saved="system.load" />
  <SystemParts v-if="system.data.value" :system="system.data.value" />
  <section class="sheet accounts">
    <div class="row spread">
      <h2>Accounts</h2>
      <InputText v-model="search" placeholder="Search by name" aria-label="Search accounts by name" />
    </div>
    <Fetched :loading="accounts.loading.value" :error="accounts.error.value" @retry="accounts.load">
      <DataTable
        :value="accounts.data.value?.items ?? []"
        size="small"
        scrollable
        scroll-height="26rem"
        data-key="id"
      >
        <template #empty>No matching accounts.</template>
        <Column header="Account">
          <template #body="{ data }"
            ><span class="wrap">{{ data.name }}</span></template
          >
        </Column>
        <Column header="Identifying values">
          <template #body="{ data }"
            ><span v-for="(piece, n) in shown(data)" :key="n"
              ><template v-if="n"> · </template><bdi>{{ piece }}</bdi></span
            ></template
          >
        </Column>
        <Column header="Linked to">
          <template #body="{ data }">
            <RouterLink v-if="data.identity" :to="{ name: 'identity', params: { id: data.identity } }"
              >identity</RouterLink
            >
            <span v-else class="faint">not linked</span>
          </template>
        </Column>
        <Column header="Note">
          <template #body="{ data }">
            <span v-if="data.fault" class="bad">{{ data.fault }}</span>
            <span v-else-if="data.absent_since" class="faint"
              >absent since {{ time(data.absent_since)
              }}{{ data.absence_confirmed ? '' : ', not confirmed' }}</span
            >
          </template>
        </Column>
      </DataTable>
      <p v-if="accounts.data.value?.next" class="faint">Showing the first 200. Search to find others.</p>
    </Fetched>
  </section>
</template>

<style scoped>
.head {
  margin-bottom: 1rem;
}
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 1rem;
  align-items: start;
}
.steps {
  margin: 0;
}
.accounts {
  margin-top: 1rem;
}
.bad {
  color: var(--bad);
}
</style>
