"""psycopg 3 as it is by default: every statement is in a transaction, and often-used ones are prepared."""
import psycopg

for connection in range(2):
    c = psycopg.connect("")
    for turn in range(10):
        for sql, args in (
            ("select id, name, country from ports where id = %s", (turn % 3 + 1,)),
            ("select count(*) from sailings where port = %s", (turn % 3 + 1,)),
            ("select name from ports order by id", None),
        ):
            print(c.execute(sql, args).fetchall())
        if turn % 5 == 4:
            c.execute("update sailings set seats = seats - 1 where id = %s", (turn,))
        c.commit()
    c.close()
