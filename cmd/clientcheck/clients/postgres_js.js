// postgres.js: transactions as functions, statements pipelined.
const postgres = require("postgres");
(async () => {
  for (let connection = 0; connection < 2; connection++) {
    const sql = postgres({ max: 1, ssl: false, connection: { application_name: process.env.PGAPPNAME } });
    for (let turn = 0; turn < 10; turn++) {
      const n = (turn % 3) + 1;
      await sql.begin(async (sql) => {
        console.log(JSON.stringify(await sql`select id, name, country from ports where id = ${n}`));
        console.log(JSON.stringify(await sql`select count(*) from sailings where port = ${n}`));
        console.log(JSON.stringify(await sql`select name from ports order by id`));
        if (turn % 5 == 4) await sql`update sailings set seats = seats - 1 where id = ${turn}`;
      });
    }
    await sql.end();
  }
})();
