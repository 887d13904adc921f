# Perl's DBI with autocommit off.
use strict;
use DBI;
use DBD::Pg;

for my $connection (1 .. 2) {
    my $c = DBI->connect("dbi:Pg:", undef, undef, { AutoCommit => 0, RaiseError => 1 });
    for my $turn (0 .. 9) {
        my $n = $turn % 3 + 1;
        for ([ "select id, name, country from ports where id = ?", $n ], [ "select count(*) from sailings where port = ?", $n ], ["select name from ports order by id"]) {
            my ($sql, @args) = @$_;
            print join(";", map { join(" ", @$_) } @{ $c->selectall_arrayref($sql, undef, @args) }), "\n";
        }
        $c->do("update sailings set seats = seats - 1 where id = ?", undef, $turn) if $turn % 5 == 4;
        $c->commit;
    }
    $c->disconnect;
}
