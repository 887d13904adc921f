"""asyncpg: a pool, transactions, and prepared statements."""
import asyncio
import asyncpg


async def main():
    pool = await asyncpg.create_pool(min_size=1, max_size=1)
    for turn in range(20):
        async with pool.acquire() as c:
            async with c.transaction():
                n = turn % 3 + 1
                print([tuple(r) for r in await c.fetch("select id, name, country from ports where id = $1", n)])
                print([tuple(r) for r in await c.fetch("select count(*) from sailings where port = $1", n)])
                print([tuple(r) for r in await c.fetch("select name from ports order by id")])
                if turn % 5 == 4:
                    await c.execute("update sailings set seats = seats - 1 where id = $1", turn)
    await pool.close()

asyncio.run(main())
