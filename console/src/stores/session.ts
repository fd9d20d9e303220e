import { defineStore } from 'pinia'
import { ref } from 'vue'
import { api, take } from '@/api/client'
import { useLive } from './live'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const name = ref<string | null>(null)

  async function signIn(token: string) {
    const me = await take(api.POST('/api/v1/session', { body: { token } }))
    name.value = me.name
    useLive().open()
  }

  /** Returns whether the cookie of an earlier visit is valid. Throws if the service does not answer. */
  async function resume(): Promise<boolean> {
    if (name.value) return true
    const answer = await api.GET('/api/v1/me')
    if (answer.response.status === 401) return false
    if (!answer.data) throw new Error(`the service answered HTTP ${answer.response.status}`)
    name.value = answer.data.name
    useLive().open()
    return true
  }

  async function signOut() {
    useLive().close()
    name.value = null
    await api.DELETE('/api/v1/session')
  }

  function forget() {
    useLive().close()
    name.value = null
  }

  return { name, signIn, resume, signOut, forget }
})
