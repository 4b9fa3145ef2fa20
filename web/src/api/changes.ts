import { useMutation, useQueryClient, type UseMutationOptions } from '@tanstack/react-query'
import { Problem } from './client'

/** The first words of the keys of queries; 'all' where nobody knows what follows. */
type Again = 'all' | string[] | undefined

type Options<R, V> = Pick<UseMutationOptions<R, Error, V>, 'mutationFn' | 'onSuccess' | 'onError' | 'onSettled'> & {
  /** What is asked for anew once it is done. */
  again?: Again | ((r: R) => Again)
  /** Goes on before what is asked for anew has come, as where a form closes at once. */
  unawaited?: boolean
  /** What was typed for it: needed no more once it is done, and not before. */
  kept?: { done: () => void }
}

/**
 * A change that a person makes. All that the interface asks a server to do goes through here: what follows from it is there when
 * `onSuccess` is called, and where it was refused for something else than what it says (as somebody else's change), that is asked for.
 */
export function useChange<R = unknown, V = void>({ again, unawaited, kept, ...o }: Options<R, V>) {
  const client = useQueryClient()
  const ask = async (what: Again) => {
    if (what === 'all') await client.invalidateQueries()
    else await Promise.all((what ?? []).map((key) => client.invalidateQueries({ queryKey: [key] })))
  }
  return useMutation<R, Error, V>({
    ...o,
    onSuccess: async (...done) => {
      kept?.done() // first: what is asked for has the new revision, which is nobody else's
      const asked = ask(typeof again === 'function' ? again(done[0]) : again)
      if (!unawaited) await asked
      await o.onSuccess?.(...done)
    },
    onError: (...refused) => {
      if (typeof again !== 'function' && !(refused[0] instanceof Problem && refused[0].status === 422)) void ask(again)
      return o.onError?.(...refused)
    },
  })
}
