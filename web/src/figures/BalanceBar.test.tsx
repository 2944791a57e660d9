import { cleanup, render, screen } from '@testing-library/react'
import { Tooltip } from 'radix-ui'
import { afterEach, describe, expect, it } from 'vitest'
import { BalanceBar } from './BalanceBar'
import { figure, roundScale, unitOf } from './units'

afterEach(cleanup)

const cores = unitOf('cpu', 104)
const bar = (props: Partial<Parameters<typeof BalanceBar>[0]>) => {
  render(
    <Tooltip.Provider>
      <BalanceBar
        label="Frost Watch, CPU"
        unit={cores}
        scale={50}
        colour="red"
        used={20}
        peak={30}
        quota={40}
        {...props}
      />
    </Tooltip.Provider>,
  )
  return screen.getByRole('img')
}

describe('the balance bar', () => {
  it('draws used, peak and quota on one scale from zero, and says them', () => {
    const b = bar({})
    expect(b.getAttribute('aria-label')).toBe('Frost Watch, CPU: 20.0 cores used, highest minute 30.0, quota 40')
    const style = (c: string) => (b.querySelector(c) as HTMLElement).style
    expect(style('.used').width).toBe('40%')
    expect([style('.peak').left, style('.peak').width]).toEqual(['40%', '20%'])
    expect(style('.quota').left).toBe('80%')
    expect(b.querySelector('.over')).toBeNull()
  })
  it('hatches what is beyond the quota', () => {
    const b = bar({ used: 45, peak: 46 })
    expect((b.querySelector('.used') as HTMLElement).style.width).toBe('80%')
    expect((b.querySelector('.over') as HTMLElement).style.width).toBe('10%')
  })
  it('shows what is not known as unknown with its reason, never as an empty bar', () => {
    const b = bar({ used: null, peak: null, reason: 'nothing tells them apart' })
    expect(b.className).toContain('unknown')
    expect(b.getAttribute('aria-label')).toBe('Frost Watch, CPU: not available, because nothing tells them apart')
  })
})

describe('units', () => {
  it('suit the resource, and never show a negative zero', () => {
    expect(figure(-0.0001, cores)).toBe('0.0')
    expect(figure(2 ** 31, unitOf('memory', 2 ** 40))).toBe('2.0')
    expect(figure(1.25e8, unitOf('network', 1e9))).toBe('1.00')
  })
  it('end a scale at a round number above the largest', () => {
    expect([roundScale(41.6, cores), roundScale(0, cores), roundScale(100, cores), roundScale(0.7, cores)]).toEqual([
      50, 1, 100, 0.8,
    ])
  })
})
