// node-postgres: a pool, and transactions by hand.
const { Pool } = require("pg");
(async () => {
  for (let connection = 0; connection < 2; connection++) {
    const pool = new Pool({ max: 1, ssl: false });
    for (let turn = 0; turn < 10; turn++) {
      const c = await pool.connect();
      const n = (turn % 3) + 1;
      await c.query("BEGIN");
      console.log(JSON.stringify((await c.query("select id, name, country from ports where id = $1", [n])).rows));
      console.log(JSON.stringify((await c.query({ name: "sailings", text: "select count(*) from sailings where port = $1", values: [n] })).rows));
      console.log(JSON.stringify((await c.query("select name from ports order by id")).rows));
      if (turn % 5 == 4) await c.query("update sailings set seats = seats - 1 where id = $1", [turn]);
      await c.query("COMMIT");
      c.release();
    }
    await pool.end();
  }
})();
