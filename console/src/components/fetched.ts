import { onMounted, onUnmounted, ref, shallowRef, type Ref } from 'vue'
import { Refusal } from '@/api/client'
import { useLive, type LiveEvent } from '@/stores/live'

/** Data of a page: read when it opens, again on request, and when an event concerns it. */
export function useFetched<T>(read: () => Promise<T>, concerns: (event: LiveEvent) => boolean = () => false) {
  const data = shallowRef<T | null>(null) as Ref<T | null>
  const error = ref<Refusal | null>(null) as Ref<Refusal | null>
  const loading = ref(true)
  let turn = 0
  let reading = 0
  let again = false
  let timer: ReturnType<typeof setTimeout> | undefined

  async function load() {
    const own = ++turn
    reading++
    try {
      const fresh = await read()
      if (own !== turn) return
      data.value = fresh
      error.value = null
    } catch (problem) {
      if (own !== turn) return
      error.value = problem instanceof Refusal ? problem : new Refusal({ detail: String(problem) }, 0)
    } finally {
      reading--
      if (own === turn) loading.value = false
      if (again && !reading) {
        again = false
        soon()
      }
    }
  }

  /** Several events in a row are one reason to read again. */
  function soon() {
    if (timer) return
    timer = setTimeout(() => {
      timer = undefined
      // A pending answer is awaited: with a steady stream of events, nothing would ever be shown otherwise.
      if (reading) again = true
      else void load()
    }, 300)
  }

  let deaf: (() => void) | undefined
  onMounted(() => {
    deaf = useLive().listen((event) => {
      if (event.event === 'missed' || concerns(event)) soon()
    })
    void load()
  })
  onUnmounted(() => {
    deaf?.()
    if (timer) clearTimeout(timer)
  })
  return { data, error, loading, load, soon }
}
