<?php
// PDO, with prepares that it emulates or that the server does.
$dsn = sprintf("pgsql:host=%s;port=%s;dbname=%s;user=%s;sslmode=disable", getenv("PGHOST"), getenv("PGPORT"), getenv("PGDATABASE"), getenv("PGUSER"));
for ($connection = 0; $connection < 2; $connection++) {
    $c = new PDO($dsn);
    $c->setAttribute(PDO::ATTR_EMULATE_PREPARES, $argv[1] === "emulated");
    for ($turn = 0; $turn < 10; $turn++) {
        $n = $turn % 3 + 1;
        $c->beginTransaction();
        foreach ([["select id, name, country from ports where id = ?", [$n]], ["select count(*) from sailings where port = ?", [$n]], ["select name from ports order by id", []]] as [$sql, $args]) {
            $s = $c->prepare($sql);
            $s->execute($args);
            echo json_encode($s->fetchAll(PDO::FETCH_NUM)), "\n";
        }
        if ($turn % 5 == 4) {
            $s = $c->prepare("update sailings set seats = seats - 1 where id = ?");
            $s->execute([$turn]);
        }
        $c->commit();
    }
    $c = null;
}
