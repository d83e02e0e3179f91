# What an application does by habit, with one of Debian's drivers. Called with HOST PORT USER PASSWORD.
$|=1;
use DBI;
my($h,$p,$u,$w,$prepared)=@ARGV;
my $d=DBI->connect("dbi:mysql:host=$h;port=$p;database=cargo",$u,$w,{RaiseError=>1,PrintError=>0,mysql_server_prepare=>$prepared});
my $s=$d->prepare("select id,name from ports where id=?");
for my $i(1..3){$s->execute($i);
print join("|",$s->fetchrow_array),"\n";
$s->finish}
$s=$d->prepare("select ?+1, ?, ?");
$s->execute($_,"t$_",undef), print join("|",map{$_//'NULL'}$s->fetchrow_array),"\n" for 1..3;
$d->begin_work;
print $d->do("insert into movements(reference,container_id,to_port) values(?,1,1)",undef,"DRVP"),"\n";
print $d->last_insert_id(undef,undef,undef,undef)>0,"\n";
$d->rollback;
eval{$d->do("insert into ports values(1,'x')")};
print $d->err," ",$d->state,"\n";
print $d->ping,"\n";
$s=$d->prepare("select id from containers order by id limit 300");
$s->execute;
my $t=0;
while(my @r=$s->fetchrow_array){$t+=$r[0]} print "$t\n";
print $d->{mysql_serverversion},"\n";
