#include <stddef.h>

// What follows is declared as in pg_query.h, which other packages cannot include.

typedef struct {
	char *message, *funcname, *filename;
	int lineno, cursorpos;
	char *context;
} PgQueryError;

typedef struct {
	size_t len;
	char *data;
} PgQueryProtobuf;

typedef struct {
	PgQueryProtobuf parse_tree;
	char *stderr_buffer;
	PgQueryError *error;
} PgQueryProtobufParseResult;

typedef struct {
	char *plpgsql_funcs;
	PgQueryError *error;
} PgQueryPlpgsqlParseResult;

PgQueryProtobufParseResult pg_query_parse_protobuf(const char *input);
PgQueryPlpgsqlParseResult pg_query_parse_plpgsql(const char *input);
void pg_query_free_protobuf_parse_result(PgQueryProtobufParseResult result);
void pg_query_free_plpgsql_parse_result(PgQueryPlpgsqlParseResult result);

typedef struct {
	char *data; // with malloc; NULL where there is an error
	size_t len;
	char *error; // with malloc
} grammar_result;

grammar_result grammar_read(int kind, const char *text, size_t stack_size);
void grammar_release(void);
void grammar_paint(size_t n);
size_t grammar_touched(size_t n);
