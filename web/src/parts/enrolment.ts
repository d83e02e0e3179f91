// enrolment gives the commands for a new agent on its host.
export function enrolment(code: string, referee = false) {
  const what = referee ? "referee" : "agent";
  return `crosstwin ${what} enroll --service ${location.origin} --code ${code} --host THIS-HOST`;
}
