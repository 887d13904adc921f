# ActiveRecord: settings at the beginning of each connection, prepared statements, and transactions.
require "active_record"

ActiveRecord::Base.establish_connection(adapter: "postgresql", host: ENV["PGHOST"], port: ENV["PGPORT"], database: ENV["PGDATABASE"], username: ENV["PGUSER"],
                                        pool: 1, variables: { statement_timeout: "30s" })
class Port < ActiveRecord::Base; end
class Sailing < ActiveRecord::Base; end
20.times do |turn|
  ActiveRecord::Base.connection_pool.disconnect! if turn == 10
  ActiveRecord::Base.transaction do
    n = turn % 3 + 1
    p Port.where(id: n).pluck(:id, :name, :country)
    p Sailing.where(port: n).count
    p Port.order(:id).pluck(:name)
    Sailing.where(id: turn).update_all("seats = seats - 1") if turn % 5 == 4
  end
end
