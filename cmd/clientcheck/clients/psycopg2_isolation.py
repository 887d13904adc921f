"""psycopg2 with an isolation level of its own and a pool."""
from psycopg2 import pool, extensions

p = pool.SimpleConnectionPool(1, 1, "")
for turn in range(20):
    c = p.getconn()
    c.set_session(isolation_level=extensions.ISOLATION_LEVEL_READ_COMMITTED, readonly=turn % 5 != 4)
    cur = c.cursor()
    for sql, args in (
        ("select id, name, country from ports where id = %s", (turn % 3 + 1,)),
        ("select count(*) from sailings where port = %s", (turn % 3 + 1,)),
        ("select name from ports order by id", None),
    ):
        cur.execute(sql, args)
        print(cur.fetchall())
    if turn % 5 == 4:
        cur.execute("update sailings set seats = seats - 1 where id = %s", (turn,))
    c.commit()
    p.putconn(c)
