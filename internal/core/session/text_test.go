package session

import (
	"reflect"
	"strings"
	"testing"
)

func TestReadPG(t *testing.T) {
	for text, want := range map[string]PGText{
		"":                                    {},
		"select 1":                            {},
		"commit":                              {Commits: true, Ends: true, Parts: true},
		" -- a word\n END ;":                  {Commits: true, Ends: true, Parts: true},
		"insert into t values (1); commit":    {Commits: true, Ends: true, Parts: true},
		"rollback":                            {Over: true},
		"rollback to savepoint a":             {},
		"abort; insert into t values (1)":     {Over: true, Ends: true, Parts: true},
		"call p()":                            {Parts: true},
		"create index concurrently i on t(a)": {Parts: true},
		"do $$ begin set app.tenant = 'a'; end $$":         {Parts: true, Settings: []string{"app.tenant"}},
		"do 'begin perform set_config(v, w, false); end'":  {Parts: true, Hidden: true},
		"do $a$ begin execute 'set app.' || v; end $a$":    {Parts: true, Hidden: true},
		"do $$ begin execute 'update t set a = 1'; end $$": {Parts: true},
		"do '$'":          {Parts: true},
		"begin read only": {ReadOnly: true},

		"START TRANSACTION deferrable, read only":            {ReadOnly: true},
		"begin isolation level serializable, read only":      {},
		"begin read only; select 1":                          {},
		"/* commit; /* nested */ */ select 1":                {},
		"select 'commit; ''commit''' , $x$; commit; $x$":     {},
		`select E'\'; commit; '`:                             {},
		`select "commit; x"`:                                 {},
		"prepare transaction 'x'":                            {Commits: true, Ends: true, Parts: true, Prepares: true},
		"prepare x as select 1":                              {Prepares: true},
		"execute x":                                          {Executes: true},
		"set app.tenant = 'a'":                               {Settings: []string{"app.tenant"}},
		`set session App."Tenant" to default`:                {Settings: []string{"app.Tenant"}},
		"set local app.tenant = 'a'":                         {},
		"set work_mem = '1MB'":                               {},
		"select set_config('app.tenant', $1, false)":         {Settings: []string{"app.tenant"}},
		"select pg_catalog.set_config('a.b', f(1, 2), true)": {},
		"select set_config($1, $2, false)":                   {Hidden: true},
		"select set_config(name, v, true) from t":            {},
		"select set_config('work_mem', '1MB', false)":        {},
		"select pg_advisory_lock(1)":                         {Locks: true},
		"select $1::int, '$tag$'":                            {},
	} {
		if got := ReadPG(text); !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %+v, want %+v", text, got, want)
		}
	}
}

func TestReadMaria(t *testing.T) {
	for text, want := range map[string]MariaText{
		"select 1":                               {},
		"COMMIT":                                 {Ends: true, Parts: true},
		"rollback":                               {Rollback: true},
		"rollback to savepoint s":                {},
		"rollback and chain":                     {Rollback: true, Ends: true, Parts: true},
		"rollback; delete from t":                {Ends: true, Parts: true},
		"update t set a = 1; update u set a = 1": {Parts: true},
		"start transaction read only":            {Begins: true, ReadOnly: true},
		"insert into t values ('\\'; commit')":   {},
		"create table t (id int)":                {Ends: true, Parts: true},
		"begin":                                  {Begins: true},
		"start transaction read only; select 1":  {Begins: true, Parts: true},
		"select 1; begin":                        {Ends: true, Parts: true},
		"begin not atomic select 1; end":         {Ends: true, Parts: true},
		"call p()":                               {Ends: true, Parts: true},
		"set autocommit = 1":                     {Ends: true, Parts: true},
		"set @a = 1":                             {},
		"select 1 # ; commit":                    {},
		"select 1 /*! ; commit */":               {Ends: true, Parts: true},
		"select 5--1":                            {},
		"select get_lock('x', 1)":                {Holds: "a lock by GET_LOCK"},
		"flush tables with read lock":            {Ends: true, Parts: true, Holds: "a lock by FLUSH TABLES"},
		"xa start 'x'":                           {Ends: true, Parts: true, Holds: "an XA transaction"},
		"kill 12":                                {Ends: true, Parts: true, Kill: 12, KillAt: 5, KillEnd: 7},
		"kill query  77":                         {Ends: true, Parts: true, Kill: 77, KillAt: 12, KillEnd: 14},
		"kill query id 77":                       {Ends: true, Parts: true},
		"select `commit; x`, \"; commit\"":       {},
	} {
		if got := ReadMaria(text); !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %+v, want %+v", text, got, want)
		}
	}
}

// A text is read to its end, whatever stands in it; what is quoted says nothing.
func FuzzText(f *testing.F) {
	f.Add("select $a$ x $a$, E'\\'', \"q\" /* c */ -- d")
	f.Fuzz(func(t *testing.T, text string) {
		ReadPG(text)
		ReadMaria(text)
		plain := strings.NewReplacer("'", "", "\\", "").Replace(text)
		if got := ReadPG("select '" + plain + "'"); got.Ends || got.Settings != nil {
			t.Errorf("%q: %+v", plain, got)
		}
	})
}
