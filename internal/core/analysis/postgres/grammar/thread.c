#define _GNU_SOURCE
#include "thread.h"

#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_cond_t given = PTHREAD_COND_INITIALIZER, done = PTHREAD_COND_INITIALIZER;
static int state; // 0: no thread, -1: there can be none, 1: it waits, 2: it has something to do, 3: it is done
static int running;
static char *stack;
static size_t stack_size;

static struct {
	int kind;
	const char *text;
	grammar_result result;
} job;

// Untouched bytes of the stack have this value while its use is measured.
#define UNTOUCHED 0xA5

static void *run(void *unused) {
#ifdef __linux__
	// Reading new statements gives way to answering known ones.
	setpriority(PRIO_PROCESS, syscall(SYS_gettid), 10);
#endif
	pthread_mutex_lock(&lock);
	for (;;) {
		while (state != 2)
			pthread_cond_wait(&given, &lock);
		pthread_mutex_unlock(&lock);
		memset(&job.result, 0, sizeof job.result);
		if (job.kind == 0) {
			PgQueryProtobufParseResult r = pg_query_parse_protobuf(job.text);
			job.result.data = r.parse_tree.data;
			job.result.len = r.parse_tree.len;
			r.parse_tree.data = NULL;
			if (r.error != NULL)
				job.result.error = strdup(r.error->message != NULL ? r.error->message : "");
			if (r.error != NULL && job.result.data != NULL) {
				free(job.result.data);
				job.result.data = NULL;
			}
			pg_query_free_protobuf_parse_result(r);
		} else {
			PgQueryPlpgsqlParseResult r = pg_query_parse_plpgsql(job.text);
			job.result.data = r.plpgsql_funcs;
			job.result.len = r.plpgsql_funcs != NULL ? strlen(r.plpgsql_funcs) : 0;
			r.plpgsql_funcs = NULL;
			if (r.error != NULL)
				job.result.error = strdup(r.error->message != NULL ? r.error->message : "");
			pg_query_free_plpgsql_parse_result(r);
		}
		pthread_mutex_lock(&lock);
		state = 3;
		pthread_cond_broadcast(&done);
	}
	return NULL;
}

// start makes the thread. It is called with the lock held.
static void start(void) {
	pthread_attr_t attr;
	pthread_t thread;

	state = -1;
	stack = mmap(NULL, stack_size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE | MAP_STACK, -1, 0);
	if (stack == MAP_FAILED)
		return;
	mprotect(stack, 64 << 10, PROT_NONE); // beyond its end nothing is written unseen
	if (pthread_attr_init(&attr) != 0)
		return;
	if (pthread_attr_setstack(&attr, stack, stack_size) == 0 && pthread_create(&thread, &attr, run, NULL) == 0) {
		pthread_detach(thread);
		state = 1;
	}
	pthread_attr_destroy(&attr);
}

grammar_result grammar_read(int kind, const char *text, size_t size) {
	grammar_result result = {0};

	pthread_mutex_lock(&lock);
	while (running)
		pthread_cond_wait(&done, &lock);
	if (state == 0) {
		stack_size = size;
		start();
	}
	if (state < 0) {
		pthread_mutex_unlock(&lock);
		result.error = strdup("no thread can be made for it");
		return result;
	}
	running = 1;
	job.kind = kind;
	job.text = text;
	state = 2;
	pthread_cond_signal(&given);
	while (state != 3)
		pthread_cond_wait(&done, &lock);
	result = job.result;
	state = 1;
	running = 0;
	pthread_cond_broadcast(&done);
	pthread_mutex_unlock(&lock);
	return result;
}

// The part of the stack nearest to its base is left alone: the thread waits there.
#define BASE (1 << 20)

void grammar_release(void) {
	pthread_mutex_lock(&lock);
	if (state == 1)
		madvise(stack + (64 << 10), stack_size - (64 << 10) - BASE, MADV_DONTNEED);
	pthread_mutex_unlock(&lock);
}

// Nearest to the base the thread itself has something.
#define OWN (16 << 10)

void grammar_paint(size_t n) {
	pthread_mutex_lock(&lock);
	if (state == 1)
		memset(stack + stack_size - OWN - n, UNTOUCHED, n);
	pthread_mutex_unlock(&lock);
}

size_t grammar_touched(size_t n) {
	size_t at = stack_size - OWN - n;

	pthread_mutex_lock(&lock);
	if (state == 1)
		while (at < stack_size && (unsigned char)stack[at] == UNTOUCHED)
			at++;
	pthread_mutex_unlock(&lock);
	return stack_size - at;
}
