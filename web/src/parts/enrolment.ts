// enrolment gives the commands for a new agent on its host.
export function enrolment(engine: string, code: string) {
  const first = `crosstwin agent enroll --service ${location.origin} --code ${code} \\\n  --host THIS-HOST `;
  return engine === "mariadb"
    ? `${first}--data-dir /var/lib/mysql \\\n  --config-file /etc/mysql/mariadb.conf.d/60-cluster.cnf\ncrosstwin agent`
    : `${first}--data-dir /srv/pg/data\ncrosstwin agent`;
}
