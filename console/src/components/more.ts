import { ref, type Ref } from 'vue'

/** The rows of a long list after its first page, read on request. */
export function useMore<Row>(read: (after: string) => Promise<{ rows: Row[]; next?: string | null }>) {
  const more = ref<Row[]>([]) as Ref<Row[]>
  const next = ref<string | null>(null)
  let turn = 0

  /** The first page was read: the next one begins there. */
  function restart(after?: string | null) {
    turn++
    more.value = []
    next.value = after ?? null
  }

  async function showMore() {
    if (!next.value) return
    const own = turn
    const page = await read(next.value)
    // The list was read anew meanwhile.
    if (own !== turn) return
    more.value = [...more.value, ...page.rows]
    next.value = page.next ?? null
  }
  return { more, next, restart, showMore }
}
