/** The key to the bars. */
export function HowToRead() {
  return (
    <p className="mt-3 flex flex-wrap items-center gap-4.5 text-[12.5px] text-ink-2">
      <span>How to read a bar:</span>
      <span className="w-30" aria-hidden="true">
        <span className="bal block">
          <span className="track" />
          <span className="used" style={{ width: '45%', background: 'var(--t3)' }} />
          <span className="peak" style={{ left: '45%', width: '20%' }} />
          <span className="soft-mark" style={{ left: '72%' }} />
          <span className="quota" style={{ left: '80%' }} />
        </span>
      </span>
      <span>
        fill used (mean) · whisker highest minute · notch quota · thin line soft mark · track the column’s scale, from
        zero
      </span>
      <span className="flex items-center gap-2">
        <span className="sw" style={{ background: 'var(--residual)' }} />
        counted on the host but charged to nobody
      </span>
      <span className="flex items-center gap-2">
        <span className="sw" style={{ background: 'var(--unknown)' }} />
        not available, because…
      </span>
    </p>
  )
}
