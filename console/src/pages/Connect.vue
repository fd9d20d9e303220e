<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Textarea from 'primevue/textarea'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, Refusal, take, type Schemas } from '@/api/client'
import { blank, inClear, kinds, missingIn, settingsOf, type Kind } from '@/components/connecting'
import FeedSample from '@/components/FeedSample.vue'
import StepList from '@/components/StepList.vue'
import Tree from '@/components/Tree.vue'
import { chosen, emptyScope, groupsOf, type Act, type Scope } from '@/components/scoping'
import { runTest, type Report, type Step } from '@/components/steps'

const router = useRouter()
const stepNames = ['Connect', 'Test', 'Choose what to read', 'Done'] as const
const current = ref(0)

const kind = ref<Kind>('ldap')
const name = ref('')
const purpose = ref<'source' | 'target'>('source')
const f = ref(blank())

const advanced = ref(false)
const system = computed<Schemas['NewSystem']>(() => ({
  name: name.value.trim(),
  kind: kind.value,
  settings: settingsOf(kind.value, f.value),
  secret: f.value.secret || null,
}))
const missing = computed(() => missingIn(kind.value, name.value, f.value))
const clear = computed(() => inClear(kind.value, f.value))

const steps = ref<Step[]>([])
const report = ref<Report | null>(null)
const testing = ref(false)
const fault = ref('')
async function test() {
  current.value = 1
  steps.value = []
  report.value = null
  fault.value = ''
  testing.value = true
  try {
    report.value = await runTest('/api/v1/systems/test', system.value, (step) => steps.value.push(step))
  } catch (problem) {
    fault.value = (problem as Error).message
  } finally {
    testing.value = false
  }
}

const scope = ref<Scope>(emptyScope())
const groups = ref('')
const filter = ref('')
const browse = (below: string | null) =>
  take(api.POST('/api/v1/systems/browse', { body: { system: system.value, below } }))
function choose(dn: string, act: Act) {
  scope.value = chosen(scope.value, dn, act)
}

const created = ref<{
  rules: Schemas['WrittenRules'] | null
  read: Schemas['ReadResult'] | null
  token: string
}>({
  rules: null,
  read: null,
  token: '',
})
const saving = ref(false)
async function finish() {
  saving.value = true
  fault.value = ''
  const path = { name: name.value.trim() }
  try {
    // One request: if the rules have an error, nothing is added.
    const own: Scope = { ...scope.value, ...groupsOf(groups.value), filter: filter.value.trim() || null }
    const added = await take(
      api.POST('/api/v1/systems', {
        body: { ...system.value, first: { purpose: purpose.value, scope: own } },
      }),
    )
    created.value.rules = added.rules ?? null
    await take(api.POST('/api/v1/systems/{name}/test', { params: { path } }))
    if (kind.value === 'push') {
      created.value.token = (
        await take(api.POST('/api/v1/systems/{name}/tokens', { params: { path }, body: { label: 'first' } }))
      ).token
    } else {
      const [read] = await take(api.POST('/api/v1/systems/{name}/read', { params: { path } }))
      created.value.read = read ?? null
    }
    f.value.secret = ''
    current.value = 3
  } catch (problem) {
    const faults = problem instanceof Refusal ? (problem.problem.faults ?? []) : []
    const first = faults.map((f) => [f.message, f.help].filter(Boolean).join(' — '))
    fault.value = first.length ? `Nothing was added: ${first.join('; ')}` : (problem as Error).message
  } finally {
    saving.value = false
  }
}
function open(page: 'system') {
  void router.push({ name: page, params: { name: name.value.trim() } })
}
function review(draft: number) {
  void router.push({ name: 'draft', params: { id: draft } })
}
</script>

<template>
  <h1>Connect a system</h1>
  <ol class="places" aria-label="Progress">
    <li
      v-for="(title, n) in stepNames"
      :key="title"
      :class="{ here: n === current, past: n < current }"
      :aria-current="n === current ? 'step' : undefined"
    >
      <span>{{ n + 1 }}</span> {{ title }}
    </li>
  </ol>

  <section v-if="current === 0" class="sheet form">
    <fieldset>
      <legend>Kind of system</legend>
      <label v-for="one in kinds" :key="one.id" class="kind" :class="{ picked: kind === one.id }">
        <input v-model="kind" type="radio" name="kind" :value="one.id" />
        <strong>{{ one.name }}</strong> <span class="faint">{{ one.what }}</span>
      </label>
    </fieldset>
    <div class="grid">
      <label for="name">Name</label>
      <InputText id="name" v-model="name" placeholder="harbour" />
      <template v-if="kind === 'ldap'">
        <label for="url">Address</label>
        <InputText id="url" v-model="f.url" placeholder="ldap://harbour.skerry.example:389" />
        <label for="tls">Encryption</label>
        <select id="tls" v-model="f.tls">
          <option value="start">StartTLS on a plain port</option>
          <option value="ldaps">LDAPS (an ldaps:// address)</option>
          <option value="none">none (loopback only)</option>
        </select>
        <label for="base">Base DN</label>
        <InputText id="base" v-model="f.base_dn" placeholder="dc=skerry,dc=example" />
        <label for="bind">Service account</label>
        <InputText
          id="bind"
          v-model="f.bind_dn"
          placeholder="cn=eager-tide,ou=services,dc=skerry,dc=example"
        />
        <label for="backups">Backup hosts</label>
        <Textarea
          id="backups"
          v-model="f.backups"
          rows="2"
          placeholder="one address per line, in order of preference"
        />
      </template>
      <template v-if="kind === 'scim'">
        <label for="url">Base URL</label>
        <InputText id="url" v-model="f.url" placeholder="https://berthing.skerry.example/scim/v2" />
        <label for="method">Authentication</label>
        <select id="method" v-model="f.method">
          <option value="bearer">bearer token</option>
          <option value="basic">user name and password</option>
          <option value="oauth">OAuth 2 client credentials</option>
          <option value="header">custom header</option>
        </select>
        <template v-if="f.method === 'basic'"
          ><label for="user">User</label><InputText id="user" v-model="f.user"
        /></template>
        <template v-if="f.method === 'header'"
          ><label for="header">Header</label
          ><InputText id="header" v-model="f.header" placeholder="X-Api-Key"
        /></template>
        <template v-if="f.method === 'oauth'">
          <label for="token-url">Token URL</label>
          <InputText id="token-url" v-model="f.token_url" placeholder="https://id.skerry.example/token" />
          <label for="client">Client ID</label><InputText id="client" v-model="f.client_id" />
        </template>
      </template>
      <template v-if="kind === 'feed'">
        <label for="from">Location</label>
        <select id="from" v-model="f.from">
          <option value="path">a folder on the service’s machine</option>
          <option value="url">downloaded over HTTP</option>
        </select>
        <label for="where">{{ f.from === 'path' ? 'File or folder' : 'URL' }}</label>
        <InputText
          v-if="f.from === 'path'"
          id="where"
          v-model="f.path"
          placeholder="/var/lib/eager-tide/feeds/roster"
        />
        <InputText v-else id="where" v-model="f.url" placeholder="https://roster.skerry.example/crew.csv" />
        <label for="key">Key column</label>
        <InputText
          id="key"
          v-model="f.key"
          placeholder="a column that identifies each row and never changes"
        />
        <label for="label">Name column</label>
        <InputText id="label" v-model="f.label" placeholder="a column that people recognize a row by" />
      </template>
      <template v-if="kind === 'ldap' || kind === 'scim' || (kind === 'feed' && f.from === 'url')">
        <label for="secret">{{
          kind === 'ldap' && f.client_pem.trim()
            ? 'Private key of the client certificate'
            : kind === 'ldap' || f.method === 'basic'
              ? 'Password'
              : 'Token or secret'
        }}</label>
        <InputText
          id="secret"
          v-model="f.secret"
          type="password"
          autocomplete="new-password"
          placeholder="or env:NAME, file:PATH"
        />
        <label for="ca">CA certificate</label>
        <Textarea
          id="ca"
          v-model="f.ca_pem"
          rows="2"
          placeholder="-----BEGIN CERTIFICATE----- (only for a private CA)"
        />
      </template>
      <template v-if="kind === 'ldap' || kind === 'scim'">
        <span></span>
        <button type="button" class="more" :aria-expanded="advanced" @click="advanced = !advanced">
          {{ advanced ? 'Hide advanced settings' : 'Advanced settings' }}
        </button>
      </template>
      <template v-if="advanced && (kind === 'ldap' || kind === 'scim')">
        <label for="pin">Pinned certificate</label>
        <InputText
          id="pin"
          v-model="f.pin"
          placeholder="SHA-256 of the certificate: only this one is trusted, no CA"
        />
      </template>
      <template v-if="advanced && kind === 'ldap'">
        <label for="client-pem">Client certificate</label>
        <Textarea
          id="client-pem"
          v-model="f.client_pem"
          rows="2"
          placeholder="-----BEGIN CERTIFICATE----- (used to sign in; its private key is the secret)"
        />
        <label for="person-classes">Object classes of people</label>
        <Textarea
          id="person-classes"
          v-model="f.person_classes"
          rows="2"
          auto-resize
          class="mono"
          placeholder="person&#10;inetOrgPerson"
        />
        <label for="group-classes">Object classes of groups</label>
        <Textarea
          id="group-classes"
          v-model="f.group_classes"
          rows="2"
          auto-resize
          class="mono"
          placeholder="groupOfNames&#10;groupOfUniqueNames&#10;group&#10;posixGroup"
        />
        <label for="referrals">Allowed referral hosts</label>
        <Textarea
          id="referrals"
          v-model="f.referrals"
          rows="2"
          placeholder="one host per line; the service account signs in there"
        />
      </template>
      <template v-if="advanced && kind === 'scim'">
        <label for="in-flight">Concurrent requests</label>
        <InputText id="in-flight" v-model="f.in_flight" placeholder="8" />
        <label for="per-second">Requests per second</label>
        <InputText id="per-second" v-model="f.per_second" placeholder="no limit" />
      </template>
      <label for="purpose">Role</label>
      <select id="purpose" v-model="purpose" :disabled="kind === 'feed' || kind === 'push'">
        <option value="source">source: supplies values of people</option>
        <option value="target">target: accounts are provisioned in it</option>
      </select>
    </div>
    <FeedSample v-if="kind === 'feed'" @key="(column) => (f.key ||= column)" />
    <p v-if="clear" class="bad">
      The password would cross the network in clear text: choose StartTLS or LDAPS.
    </p>
    <div class="row">
      <Button label="Test the connection" :disabled="!!missing" @click="test" />
      <span v-if="missing" class="faint">To continue, {{ missing }}.</span>
      <span v-else class="faint">The test stores nothing.</span>
    </div>
  </section>

  <section v-if="current === 1" class="sheet">
    <h2>{{ testing ? `Testing ${name}…` : report?.healthy ? 'All steps passed' : 'A step failed' }}</h2>
    <StepList :steps="steps" :running="testing" />
    <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
    <div v-if="!testing" class="row">
      <Button
        v-if="report?.healthy"
        :label="kind === 'push' ? 'Continue' : 'Choose what to read'"
        @click="current = 2"
      />
      <Button v-if="!report?.healthy" label="Test again" @click="test" />
      <Button label="Back to the connection" severity="secondary" @click="current = 0" />
    </div>
  </section>

  <section v-if="current === 2" class="sheet">
    <h2>Choose what to read <span class="faint">you can change it later, and see the impact first</span></h2>
    <div class="two">
      <div v-if="kind === 'ldap'">
        <h3>Containers</h3>
        <p class="faint">If no container is included, everything below the base DN is read.</p>
        <Tree :load="browse" :within="scope.within ?? []" :except="scope.except ?? []" @choose="choose" />
      </div>
      <div class="fields">
        <template v-if="purpose === 'source' && kind !== 'feed'">
          <label for="groups">Only members of these groups, one per line</label>
          <Textarea id="groups" v-model="groups" rows="3" />
        </template>
        <template v-if="purpose === 'source'">
          <label for="filter">Filter (LDAP or SCIM)</label>
          <InputText id="filter" v-model="filter" placeholder="(mail=*)" />
        </template>
        <p v-if="purpose === 'target'" class="faint">
          Without a scope, every identity gets an account here. Nothing is written until you enable writes and
          arm the system.
        </p>
      </div>
    </div>
    <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
    <div class="row">
      <Button label="Add the system" :loading="saving" @click="finish" />
      <Button label="Back" severity="secondary" @click="current = 1" />
      <span class="faint">It is added read-only and not armed.</span>
    </div>
  </section>

  <section v-if="current === 3" class="sheet">
    <h2>{{ name }} is connected</h2>
    <p v-if="created.read">
      {{
        created.read.error
          ? `The first read failed: ${created.read.error}`
          : `${created.read.object_count} accounts were read.`
      }}
      <span v-if="created.read.quarantined">{{ created.read.quarantined }} rows are in quarantine.</span>
    </p>
    <p v-if="created.token">
      Its token (copy it now, it is not shown again): <code class="wrap">{{ created.token }}</code>. It calls
      <code>/scim/v2/{{ name }}</code> or <code>/api/v1/events/{{ name }}</code
      >.
    </p>
    <p>
      Its first rules are in the draft of <code>{{ created.rules?.file.name }}</code>: nothing is published
      yet. The system is read-only and not armed.
    </p>
    <pre class="mono">{{ created.rules?.file.text }}</pre>
    <div class="row">
      <Button
        v-if="created.rules"
        label="Review and publish the first rules"
        @click="review(created.rules.draft)"
      />
      <Button label="Open the system" severity="secondary" @click="open('system')" />
    </div>
  </section>
</template>

<style scoped>
.places {
  display: flex;
  gap: 1.6rem;
  list-style: none;
  padding: 0;
  margin: 0 0 1rem;
  color: var(--faint);
}
.places span {
  display: inline-block;
  min-width: 1.5rem;
  text-align: center;
  border: 1px solid currentColor;
}
.places .here {
  color: inherit;
  font-weight: 600;
}
.places .past {
  color: var(--good);
}
fieldset {
  border: 0;
  padding: 0;
  margin: 0 0 1rem;
  display: grid;
  grid-template-columns: repeat(2, 1fr);
  gap: 0.4rem;
}
legend {
  font-weight: 600;
  margin-bottom: 0.3rem;
}
.kind {
  border: 1px solid var(--line);
  padding: 0.4rem 0.7rem;
}
.kind.picked {
  border-color: currentColor;
}
.grid {
  display: grid;
  grid-template-columns: 11rem 1fr;
  gap: 0.45rem 1rem;
  align-items: center;
  margin-bottom: 1rem;
}
.grid > :nth-child(even):not(.more) {
  width: 100%;
}
select {
  font: inherit;
  padding: 0.35rem;
  background: var(--sheet);
  color: inherit;
  border: 1px solid var(--line);
}
.more {
  justify-self: start;
  background: none;
  border: 0;
  padding: 0;
  font: inherit;
  color: inherit;
  text-decoration: underline;
  cursor: pointer;
}
.two {
  display: grid;
  grid-template-columns: 1.4fr 1fr;
  gap: 1.5rem;
}
.fields {
  display: grid;
  gap: 0.4rem;
  align-content: start;
}
pre {
  max-height: 22rem;
  overflow: auto;
  background: var(--ground, transparent);
  border: 1px solid var(--line);
  padding: 0.6rem;
}
.row {
  margin-top: 0.8rem;
}
.bad {
  color: var(--bad);
}
</style>
