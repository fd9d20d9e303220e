<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { Refusal } from '@/api/client'
import { useSession } from '@/stores/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const token = ref('')
const error = ref<Refusal | null>(null)
const busy = ref(false)

/** Only a path of this console: the sign-in page must not redirect elsewhere. */
function target(): string {
  const to = route.query.to
  return typeof to === 'string' && /^\/(?![/\\])/.test(to) ? to.replace(/#token=.*$/, '') : '/'
}

async function enter() {
  busy.value = true
  error.value = null
  try {
    await session.signIn(token.value.trim())
    await router.replace(target())
  } catch (problem) {
    error.value = problem instanceof Refusal ? problem : new Refusal({ detail: String(problem) }, 0)
  } finally {
    busy.value = false
  }
}

onMounted(() => {
  // The demo's link carries its token behind the #, which never leaves the browser.
  const found = /^#token=([0-9a-f]+)$/.exec(route.hash)
  if (found?.[1]) {
    token.value = found[1]
    history.replaceState(history.state, '', '/sign-in')
    void enter()
  }
})
</script>

<template>
  <form class="sheet door" @submit.prevent="enter">
    <div class="row">
      <img src="/mark.svg" alt="" width="40" height="40" />
      <h1>Eager Tide</h1>
    </div>
    <p>
      Sign in with a token. At its first start the service writes one to the file <code>first-token</code> in
      its data folder.
    </p>
    <label for="token">Token</label>
    <InputText
      id="token"
      v-model="token"
      type="password"
      fluid
      autocomplete="current-password"
      :invalid="error !== null"
      aria-describedby="trouble"
    />
    <p v-if="error" id="trouble" class="trouble" role="alert">{{ error.message }}. {{ error.remedy }}</p>
    <Button type="submit" label="Sign in" :disabled="!token.trim()" :loading="busy" />
    <p v-if="!token.trim()" class="faint">Enter a token to sign in.</p>
  </form>
</template>

<style scoped>
.door {
  max-width: 27rem;
  margin: 4rem auto 0;
  border-top: 4px solid var(--lamp);
  display: grid;
  gap: 0.7rem;
}
p {
  margin: 0;
}
.trouble {
  color: var(--bad);
}
</style>
