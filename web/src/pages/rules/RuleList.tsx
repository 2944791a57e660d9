import { Head } from '../../figures/Heads'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { answer, api, type Rule } from '../../api/client'
import { shown } from '../../figures/Name'

/** The rules in the order they are tried; each can be moved. A list that changed meanwhile is not touched. */
export function RuleList({ rules, version }: { rules: Rule[]; version: string }) {
  const queries = useQueryClient()
  const move = useMutation({
    mutationFn: ({ position, to }: { position: number; to: number }) =>
      answer(
        api.POST('/api/v1/rules/{position}/move', {
          params: { path: { position }, header: { 'If-Match': version } },
          body: { to },
        }),
      ),
    onSettled: () => queries.invalidateQueries({ queryKey: ['rules'] }),
  })
  if (rules.length === 0) return <p className="p-3.5 font-serif">There is no rule yet: all use is unassigned.</p>
  return (
    <>
      {move.error && (
        <p role="alert" className="px-3.5 py-2 text-wine">
          {move.error.message}
        </p>
      )}
      {move.data && (
        <p role="status" className="px-3.5 py-2">
          Moved; {move.data.workloads_moved} workloads are another tenant’s from now on.
        </p>
      )}
      <table>
        <thead>
          <tr>
            <th scope="col" className="num">
              #
            </th>
            <Head name="Tenant" />
            <Head name="When" />
            <Head name="Order" />
          </tr>
        </thead>
        <tbody>
          {rules.map((r) => (
            <tr key={r.position}>
              <td className="num">{r.position}</td>
              <th scope="row" className="whitespace-nowrap">
                {shown(r.tenant)}
              </th>
              <td>
                <code className="font-mono text-[12.5px] break-words">{shown(r.expression)}</code>
              </td>
              <td className="whitespace-nowrap">
                {[
                  { word: 'up', to: r.position - 1, off: r.position === 1 },
                  { word: 'down', to: r.position + 1, off: r.position === rules.length },
                ].map((m) => (
                  <button
                    key={m.word}
                    type="button"
                    className="link mr-2 disabled:text-ink-2 disabled:no-underline"
                    disabled={m.off || move.isPending}
                    aria-label={`Move rule ${r.position} ${m.word}`}
                    onClick={() => move.mutate({ position: r.position, to: m.to })}
                  >
                    {m.word}
                  </button>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  )
}
