import { entry, setRegister } from '../figures/register'

/** The resources of the register, as far as what is tested needs to know them. */
const flow = { ...entry(''), has_ledger: true, bound: 'capacity', form: 'area' } as const
setRegister([
  { ...flow, name: 'cpu', title: 'CPU', meaning: 'CPU time.', unit: 'cpu_seconds', mean_unit: 'cores' },
  {
    ...flow,
    name: 'memory',
    title: 'Memory',
    meaning: 'Memory charged.',
    unit: 'bytes',
    mean_unit: 'bytes',
    manner: 'level',
    steps: 'binary',
  },
  {
    ...flow,
    name: 'disk',
    title: 'Disk',
    meaning: 'Bytes moved.',
    unit: 'bytes',
    mean_unit: 'bytes_per_second',
    steps: 'decimal',
  },
  {
    ...flow,
    name: 'network',
    title: 'Network',
    meaning: 'Bytes moved.',
    unit: 'bytes',
    mean_unit: 'bytes_per_second',
    steps: 'decimal',
    in_bits: true,
  },
  {
    ...flow,
    name: 'energy',
    title: 'Energy',
    meaning: 'Energy drawn.',
    unit: 'joules',
    mean_unit: 'watts',
    steps: 'hourly',
    is_told: false, // until a host tells of it
  },
  {
    ...flow,
    has_ledger: false,
    name: 'cpu_throttled_us',
    title: 'CPU throttled',
    unit: 'us',
    mean_unit: 'us_per_second',
    steps: 'seconds',
  },
  {
    ...flow,
    has_ledger: false,
    name: 'memory_anon_bytes',
    title: 'Memory, anonymous',
    unit: 'bytes',
    mean_unit: 'bytes',
    manner: 'level',
    steps: 'binary',
  },
  {
    ...flow,
    has_ledger: false,
    name: 'disk_read_bytes',
    title: 'Disk, read',
    unit: 'bytes',
    mean_unit: 'bytes_per_second',
    steps: 'decimal',
  },
])
