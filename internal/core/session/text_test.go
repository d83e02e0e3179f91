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
		"commit":                              {Ends: true, Commit: true},
		" -- a word\n END ;":                  {Ends: true, Commit: true},
		"insert into t values (1); commit":    {Ends: true},
		"/* commit; /* nested */ */ select 1": {},
		"select 'commit; ''commit''' , $x$; commit; $x$":     {},
		`select E'\'; commit; '`:                             {},
		`select "commit; x"`:                                 {},
		"prepare transaction 'x'":                            {Ends: true},
		"prepare x as select 1":                              {},
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
		"select 1":                              {},
		"COMMIT":                                {Ends: true, Commit: true},
		"rollback":                              {Rollback: true},
		"rollback to savepoint s":               {},
		"rollback and chain":                    {Rollback: true, Ends: true},
		"insert into t values ('\\'; commit')":  {},
		"create table t (id int)":               {Ends: true},
		"begin":                                 {Begins: true},
		"start transaction read only; select 1": {Begins: true},
		"select 1; begin":                       {Ends: true},
		"begin not atomic select 1; end":        {Ends: true},
		"call p()":                              {Ends: true},
		"set autocommit = 1":                    {Ends: true},
		"set @a = 1":                            {},
		"select 1 # ; commit":                   {},
		"select 1 /*! ; commit */":              {Ends: true},
		"select 5--1":                           {},
		"select get_lock('x', 1)":               {Holds: "a lock by GET_LOCK"},
		"flush tables with read lock":           {Ends: true, Holds: "a lock by FLUSH TABLES"},
		"xa start 'x'":                          {Ends: true, Holds: "an XA transaction"},
		"kill 12":                               {Ends: true, Kill: 12, KillAt: 5, KillEnd: 7},
		"kill query  77":                        {Ends: true, Kill: 77, KillAt: 12, KillEnd: 14},
		"kill query id 77":                      {Ends: true},
		"select `commit; x`, \"; commit\"":      {},
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
