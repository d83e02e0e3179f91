# What an application does by habit, with one of Debian's drivers. Called with HOST PORT USER PASSWORD.
use DBI;
my($h,$p,$u,$w)=@ARGV;
my $d=DBI->connect("dbi:Pg:host=$h;port=$p;dbname=bookings;sslmode=disable",$u,$w,{RaiseError=>1,PrintError=>0,AutoCommit=>1});
my $s=$d->prepare("select id,name from vessels where id=?");
for my $i(1..3){$s->execute($i);
print join("|",$s->fetchrow_array),"\n";}
$s=$d->prepare("select \$1::int+1",{pg_server_prepare=>1});
$s->execute($_), print $s->fetchrow_array,"\n" for 1..4;
$d->begin_work;
$d->do("create temp table t(a int)");
$d->do("copy t from stdin");
$d->pg_putcopydata("$_\n") for 1..500;
$d->pg_putcopyend;
print $d->selectrow_array("select sum(a) from t"),"\n";
$d->commit;
eval{$d->do("select 1/0")};
print $d->state,"\n";
print $d->ping>0,"\n";
$d->do("listen pier");
$d->do("notify pier");
my $n=$d->pg_notifies;
print $n->[0],"\n";
$d->begin_work;
$d->do("declare c cursor for select id from sailings order by id");
print join(",",map{$_->[0]}@{$d->selectall_arrayref("fetch 5 from c")}),"\n";
$d->rollback;
print $d->{pg_server_version},"\n";
