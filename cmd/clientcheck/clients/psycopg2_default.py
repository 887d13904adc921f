"""psycopg2 as it is by default: every statement is in a transaction."""
import psycopg2

for connection in range(2):
    c = psycopg2.connect("")
    for turn in range(10):
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
    c.close()
