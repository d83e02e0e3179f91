// enrolment gives the commands for a new agent on its host.
export function enrolment(code: string) {
  return `crosstwin agent enroll --service ${location.origin} --code ${code} --host THIS-HOST`;
}
