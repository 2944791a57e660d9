import createClient from 'openapi-fetch'
import type { components, paths } from './schema.gen'

type Schemas = components['schemas']
export type Measure = Schemas['Measure']
export type Word = Schemas['Word']
export type Choices = Schemas['Choices']
export type Folio = Schemas['Folio']
export type FolioRow = Schemas['Row']
export type FolioLine = Schemas['FolioLine']
export type KeptFolio = Schemas['KeptFolio']
export type Plate = Schemas['Plate']
export type Subject = Schemas['Subject']
export type Matter = Schemas['Matter']
export type Balance = Schemas['Balance']
export type TenantBalance = Schemas['TenantBalance']
export type ResourceBalance = Schemas['ResourceBalance']
export type QuotaStand = Schemas['Stand']
export type Pinned = Schemas['Pinned']
export type Weighed = Schemas['Weighed']
export type Happened = Schemas['Event']
export type Series = Schemas['Series']
export type SeriesGroup = Schemas['SeriesGroup']
export type Shortage = Schemas['Shortage']
export type AllowanceStand = Schemas['AllowanceStand']
export type Quota = Schemas['Quota']
export type QuotaToSet = Schemas['QuotaToSet']
export type ResourceUse = Schemas['ResourceUse']
export type Host = Schemas['Host']
export type Tenant = Schemas['Tenant']
export type Ledger = Schemas['Ledger']
export type Share = Schemas['Share']
export type Timeline = Schemas['Timeline']
export type PinAudit = Schemas['PinAudit']
export type Account = Schemas['Account']
export type Statement = Schemas['Statement']
export type GrownStatement = Schemas['StatementGrown']
export type StatementLine = Schemas['Line']
export type Tariff = Schemas['TariffInForce']
export type SizeAdvice = Schemas['SizeAdvice']
export type PinPlan = Schemas['PinPlan']
export type PinnedCPU = Schemas['PinnedCPU']
export type DeclaredPin = Schemas['DeclaredPin']
export type PinToDeclare = Schemas['PinToDeclare']
export type AboutWorkload = Schemas['AboutWorkload']
export type AboutGroup = Schemas['AboutGroup']
export type WorkloadLine = Schemas['WorkloadLine']
export type WorkloadUse = Schemas['WorkloadUse']
export type Family = Schemas['Family']
export type Found = Schemas['Found']
export type Rule = Schemas['Rule']
export type Trial = Schemas['Trial']
export type Suggestion = Schemas['Suggestion']
export type Warming = Schemas['Warming']
export type DeviceLine = Schemas['DeviceLine']
export type ControllerLine = Schemas['ControllerLine']
export type CPULine = Schemas['CPULine']
export type Links = Schemas['Links']
export type LinkLine = Schemas['LinkLine']
export type HostMemory = Schemas['Memory']
export type Machine = Schemas['Machine']
export type SensorLine = Schemas['SensorLine']
export type GPUs = Schemas['GPUs']
export type GPULine = Schemas['GPULine']
export type GPUSpread = Schemas['GPUSpread']
export type GPUFigure = Schemas['GPUFigure']
export type Caveat = Schemas['Caveat']
export type Ability = Schemas['Ability']
export type Uncovered = Schemas['Uncovered']
export type Identity = Schemas['Identity']
export type Act = Schemas['Intervention']
export type ActEntry = Schemas['ActEntry']
export type ActToRequest = Schemas['ActInputBody']
export type StandingRule = Schemas['StandingRule']
export type StandingToAdd = Schemas['StandingToAdd']
export type StandingTrial = Schemas['StandingTrial']
export type ValueChange = Schemas['Change']

/** What the service answered when it could not do what was asked (RFC 9457). */
export class ProblemError extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail)
  }
}

/** The service, by its own description. The header marks calls of this console; see the service's rule on cookies. */
export const api = createClient<paths>({
  baseUrl: location.origin,
  fetch: (request) => fetch(request), // looked up at each call, so that tests can stand in for it
  headers: { 'X-Vinescale': 'console' },
})

/** Returns the answer, or throws what the service said instead. */
export async function answer<T>(
  call: Promise<{ data?: T; error?: { detail?: string; title?: string }; response: Response }>,
): Promise<T> {
  const { data, error, response } = await call
  if (error !== undefined || !response.ok) {
    throw new ProblemError(response.status, error?.detail ?? error?.title ?? `the service answered ${response.status}`)
  }
  return data as T
}
