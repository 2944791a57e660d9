import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, api } from '../api/client'

export function SignIn() {
  const [token, setToken] = useState('')
  const queries = useQueryClient()
  const signIn = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/sign-in', { body: { token: token.trim() } })),
    onSuccess: () => queries.invalidateQueries(),
  })
  return (
    <main className="mx-auto mt-[14vh] max-w-105 px-4">
      <h1>
        Vine<span className="text-vine">Scale</span>
      </h1>
      <p className="mt-2 mb-5 font-serif text-[15px] text-ink-2">The account book of shared hosts.</p>
      <form
        className="sheet p-5"
        onSubmit={(e) => {
          e.preventDefault()
          signIn.mutate()
        }}
      >
        <label htmlFor="token" className="font-semibold">
          Token
        </label>
        <input
          id="token"
          type="password"
          autoComplete="current-password"
          autoFocus
          required
          value={token}
          onChange={(e) => setToken(e.target.value)}
          aria-describedby="where"
          className="mt-1 mb-2 block w-full rounded-[3px] border border-rule-2 bg-paper px-2.5 py-1.5 font-mono text-[12px]"
        />
        <p id="where" className="mb-4 text-[12.5px] text-ink-2">
          The administrator’s is in the file administrator-token of the service’s data directory; the demo prints it.
        </p>
        {signIn.isError && (
          <p role="alert" className="mb-4 text-wine first-letter:uppercase">
            {signIn.error.message}
          </p>
        )}
        <button
          type="submit"
          disabled={signIn.isPending}
          className="cursor-pointer rounded-[3px] bg-vine px-4 py-1.5 font-semibold text-paper"
        >
          Sign in
        </button>
      </form>
    </main>
  )
}
