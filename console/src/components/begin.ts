import { useToast } from 'primevue/usetoast'
import { useRouter } from 'vue-router'
import { api, take } from '@/api/client'
import type { Schemas } from '@/api/client'

/** Starts a preview or a run and opens its page; shows errors in a toast. */
export function useBegin() {
  const router = useRouter()
  const toast = useToast()

  async function begin(
    kind: 'preview' | 'run',
    preview: number | null = null,
    more: Partial<Schemas['NewChangeSet']> = {},
  ) {
    try {
      const begun = await take(
        api.POST('/api/v1/change-sets', { body: { kind, preview, without_reading: false, ...more } }),
      )
      await router.push({ name: 'change-set', params: { id: begun.id } })
    } catch (problem) {
      toast.add({ severity: 'error', summary: (problem as Error).message, life: 8000 })
    }
  }

  return { begin, preview: (more?: Partial<Schemas['NewChangeSet']>) => begin('preview', null, more) }
}
