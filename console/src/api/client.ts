import createClient from 'openapi-fetch'
import { reactive } from 'vue'
import type { components, paths } from './schema.d'

export type Project = components['schemas']['Project']
export type Improvements = components['schemas']['Improvements']
export type Run = components['schemas']['Run']
export type RunDetail = components['schemas']['RunDetail']
export type Words = components['schemas']['Words']
export type View = components['schemas']['View']
export type Comparison = components['schemas']['Comparison']
export type RunGroup = components['schemas']['RunGroup']
export type FactRow = components['schemas']['FactRow']
export type Learning = components['schemas']['Learning']
export type Mattered = components['schemas']['Mattered']
export type TradeOff = components['schemas']['TradeOff']
export type Objective = components['schemas']['Objective']
export type StopRule = components['schemas']['StopRule']
export type StopState = components['schemas']['StopState']
export type Checkpoint = components['schemas']['Checkpoint']
export type KeepRule = components['schemas']['KeepRule']
export type KeepState = components['schemas']['KeepState']
export type KeepTried = components['schemas']['KeepTried']
export type KeptOne = components['schemas']['KeptOne']
export type StorageSizes = components['schemas']['StorageSizes']
export type Tensors = components['schemas']['Tensors']
export type Weights = components['schemas']['Weights']
export type Figure = components['schemas']['Figure']
export type Leg = components['schemas']['Leg']
export type Output = components['schemas']['Output']
export type Me = components['schemas']['Me']
export type Dataset = components['schemas']['Dataset']
export type Snapshot = components['schemas']['Snapshot']
export type Item = components['schemas']['Item']
export type SnapshotDifference = components['schemas']['SnapshotDifference']
export type Sheet = components['schemas']['Sheet']
export type Evaluation = components['schemas']['Evaluation']
export type Lineage = components['schemas']['Lineage']
export type Model = components['schemas']['Model']
export type Edition = components['schemas']['Edition']
export type Standing = components['schemas']['Standing']
export type Asking = components['schemas']['Asking']
export type Holding = components['schemas']['Holding']
export type EnteringRule = components['schemas']['EnteringRule']
export type RuleRun = components['schemas']['RuleRun']
export type RulePast = components['schemas']['RulePast']
export type Subscription = components['schemas']['Subscription']
export type Description = components['schemas']['Description']
export type Delivery = components['schemas']['Delivery']
export type RunFile = components['schemas']['RunFile']
export type RunFileView = components['schemas']['RunFileView']
export type SheetDetail = components['schemas']['SheetDetail']
export type Example = components['schemas']['Example']
export type ExampleDetail = components['schemas']['ExampleDetail']
export type SheetDisagreement = components['schemas']['SheetDisagreement']
export type Problem = components['schemas']['Problem']

export const client = createClient<paths>({ baseUrl: '/', credentials: 'same-origin' })

/** Who is signed in; me is null while nobody is, undefined while it is not known. */
export const session = reactive<{ me: Me | null | undefined }>({ me: undefined })

/** An answer that is a problem, as an error with the service's own words. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    message: string,
    /** Which value of what was asked is wrong, such as where; '' where that is not known. */
    readonly field = '',
  ) {
    super(message)
  }
}

/** Returns the data of an answer, or throws what the service says is wrong. */
export async function answer<T>(call: Promise<{ data?: T; error?: Problem; response: Response }>): Promise<T> {
  let got
  try {
    got = await call
  } catch {
    throw new Refused(0, 'The service does not answer.')
  }
  if (got.response.ok) return got.data as T
  if (got.response.status === 401) session.me = null
  const details = got.error?.errors?.map((e) => e.message).join('; ')
  const text = [got.error?.detail ?? got.response.statusText, details].filter(Boolean).join(': ')
  throw new Refused(got.response.status, text, got.error?.field)
}

export async function whoAmI() {
  try {
    session.me = await answer(client.GET('/api/v1/me'))
  } catch (e) {
    if (!(e instanceof Refused) || e.status !== 401) throw e
    session.me = null
  }
}
