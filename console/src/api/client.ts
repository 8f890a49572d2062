import createClient from "openapi-fetch";
import type { components } from "./schema.gen";
import { versions } from "./versions";

export type Message = components["schemas"]["Message"];
export type Evidence = components["schemas"]["Evidence"];
export type Exchange = components["schemas"]["Exchange"];
export type Tally = components["schemas"]["Tally"];
export type Draft = components["schemas"]["Draft"];
export type State = components["schemas"]["State"];
export type Weighing = components["schemas"]["Weighing"];
export type WeighRequest = components["schemas"]["WeighRequest"];
export type Culprit = components["schemas"]["Culprit"];
export type Part = components["schemas"]["Part"];
export type Recipient = components["schemas"]["Recipient"];
export type Rule = components["schemas"]["Rule"];
export type Access = components["schemas"]["Access"];
export type Sender = components["schemas"]["Sender"];
export type Template = components["schemas"]["Template"];
export type PriceList = components["schemas"]["PriceList"];
export type Gateway = components["schemas"]["Gateway"];
export type Route = components["schemas"]["Route"];
export type Trial = components["schemas"]["Trial"];
export type DialectCheck = components["schemas"]["DialectCheck"];
export type Change = components["schemas"]["Change"];
export type Batch = components["schemas"]["Batch"];
export type BatchWants = components["schemas"]["BatchWants"];
export type BatchTotals = components["schemas"]["BatchTotals"];
export type BatchRow = components["schemas"]["BatchRow"];
export type BatchForecast = components["schemas"]["BatchForecast"];
export type BatchCourse = components["schemas"]["BatchCourse"];
export type LaunchGiven = components["schemas"]["LaunchGiven"];
export type BatchPart = components["schemas"]["BatchPart"];
export type RecipientsSaved = components["schemas"]["RecipientsSaved"];
export type Need = components["schemas"]["Need"];
export type Arrivals = components["schemas"]["Arrivals"];
export type ArrivalGroup = components["schemas"]["ArrivalGroup"];
export type ArrivalBar = components["schemas"]["ArrivalBar"];
export type Stray = components["schemas"]["Stray"];
export type Money = components["schemas"]["Money"];
export type Accounts = components["schemas"]["Accounts"];
export type Account = components["schemas"]["Account"];
export type Charged = components["schemas"]["Charged"];
export type PasscodeFunnel = components["schemas"]["PasscodeFunnel"];
export type PasscodeFared = components["schemas"]["PasscodeFared"];
export type PasscodeLimit = components["schemas"]["PasscodeLimit"];
export type PasscodeBlock = components["schemas"]["PasscodeBlock"];
export type PasscodeAlarm = components["schemas"]["PasscodeAlarm"];
export type PasscodeRule = components["schemas"]["PasscodeRule"];
export type Passcode = components["schemas"]["Passcode"];
export type StatementHeaps = components["schemas"]["StatementHeaps"];
export type StatementLine = components["schemas"]["StatementLine"];
export type StatementTaken = components["schemas"]["StatementTaken"];
export type Happening = components["schemas"]["Event"];
export type Telling = components["schemas"]["Telling"];
export type Receiver = components["schemas"]["Receiver"];
export type Said = components["schemas"]["Said"];
export type Problem = components["schemas"]["Problem"];

export const api = createClient<import("./schema.gen").paths>({ credentials: "same-origin" });
api.use(versions);

/** What the service refused, as an error that the query library can carry. */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.title);
  }
}

/** Gives the data of an answer, or throws what the service said instead. */
export async function got<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result;
  try {
    result = await answer;
  } catch {
    throw new Refusal({ type: "", title: "The service does not answer", status: 0, detail: "Nothing is lost. This page looks again by itself." });
  }
  if (result.response.ok) return result.data as T;
  const said = result.error as Problem | undefined;
  throw new Refusal(said?.title ? said : { type: "", title: `The service answered ${result.response.status}`, status: result.response.status });
}
