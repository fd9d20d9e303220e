import { expect, test } from 'vitest'
import { useMore } from './more'

test('pages are added until the last, and a list that is read anew begins again', async () => {
  const asked: string[] = []
  const pages = useMore(async (after) => {
    asked.push(after)
    return { rows: [after], next: after === 'b' ? null : 'b' }
  })
  await pages.showMore()
  expect(asked).toEqual([])
  pages.restart('a')
  await pages.showMore()
  await pages.showMore()
  await pages.showMore()
  expect(pages.more.value).toEqual(['a', 'b'])
  expect(pages.next.value).toBeNull()
  pages.restart('a')
  const late = pages.showMore()
  pages.restart('b')
  await late
  expect(pages.more.value).toEqual([])
})
