/* A message broker (MQTT 5) in place of a serial line, as a board with a radio has it. Arguments: NAME HOST PORT [USER]; the password is in
   BOARD_PASSWORD, the broker's certificate authority in BOARD_AUTHORITY. Below cairnwind/boards/NAME:

     ask      two bytes that number it, then a frame as on a serial line; told with a short expiry, for nothing late is to be done
     answer   the same two bytes, then the answer
     here     'here', or by its last will 'gone'; retained

   The pins have their time while it is not connected, or connects: the library does that in a thread of its own. */
#include "board.h"
#include "line.h"
#include <mosquitto.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define WAITING 8
static struct mosquitto *broker;
static char ask[128], answer[128], here[128];
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static struct { uint8_t number[2], frame[256]; int length; } waiting[WAITING];
static int first, count;
static uint8_t number[2]; /* of the frame that is being answered */

static void connected(struct mosquitto *m, void *own, int reason, int flags, const mosquitto_property *props) {
    (void)own, (void)flags, (void)props;
    if (reason) return;
    pthread_mutex_lock(&lock);
    count = 0; /* what came before it was lost is late */
    pthread_mutex_unlock(&lock);
    mosquitto_subscribe(m, 0, ask, 1);
    mosquitto_publish(m, 0, here, 4, "here", 1, 1);
}

static void came(struct mosquitto *m, void *own, const struct mosquitto_message *message, const mosquitto_property *props) {
    (void)m, (void)own, (void)props;
    const uint8_t *bytes = message->payload;
    if (message->retain || message->payloadlen < 6 || message->payloadlen > 257) return; /* what was left there is nobody's word of now */
    pthread_mutex_lock(&lock);
    if (count < WAITING) {
        int at = (first + count++) % WAITING;
        memcpy(waiting[at].number, bytes, 2);
        waiting[at].length = message->payloadlen - 2;
        memcpy(waiting[at].frame, bytes + 2, (size_t)waiting[at].length);
    }
    pthread_mutex_unlock(&lock);
}

uint8_t line_begin(int argc, char **argv, const char *inherited) {
    (void)inherited;
    if (argc < 4) return fprintf(stderr, "NAME HOST PORT [USER]\n"), 0;
    snprintf(ask, sizeof ask, "cairnwind/boards/%s/ask", argv[1]);
    snprintf(answer, sizeof answer, "cairnwind/boards/%s/answer", argv[1]);
    snprintf(here, sizeof here, "cairnwind/boards/%s/here", argv[1]);
    mosquitto_lib_init();
    broker = mosquitto_new(0, true, 0);
    mosquitto_int_option(broker, MOSQ_OPT_PROTOCOL_VERSION, MQTT_PROTOCOL_V5);
    mosquitto_int_option(broker, MOSQ_OPT_TCP_NODELAY, 1);
    if (argc > 4) mosquitto_username_pw_set(broker, argv[4], getenv("BOARD_PASSWORD"));
    if (getenv("BOARD_AUTHORITY") && mosquitto_tls_set(broker, getenv("BOARD_AUTHORITY"), 0, 0, 0, 0)) return fprintf(stderr, "no such authority\n"), 0;
    mosquitto_will_set_v5(broker, here, 4, "gone", 1, 1, 0);
    mosquitto_connect_v5_callback_set(broker, connected);
    mosquitto_message_v5_callback_set(broker, came);
    mosquitto_reconnect_delay_set(broker, 1, 5, 0);
    mosquitto_connect_async(broker, argv[2], atoi(argv[3]), 5);
    if (mosquitto_loop_start(broker)) return fprintf(stderr, "no thread\n"), 0;
    printf("topic cairnwind/boards/%s\n", argv[1]);
    fflush(stdout);
    return 1;
}

int line_file(void) { return -1; }

int line_take(uint8_t *frame, int ready) {
    (void)ready;
    pthread_mutex_lock(&lock);
    int length = 0;
    if (count) {
        length = waiting[first].length;
        memcpy(number, waiting[first].number, 2);
        memcpy(frame, waiting[first].frame, (size_t)length);
        first = (first + 1) % WAITING, count--;
    }
    pthread_mutex_unlock(&lock);
    return length;
}

void line_send(const uint8_t *frame, uint8_t length) {
    uint8_t whole[258];
    memcpy(whole, number, 2), memcpy(whole + 2, frame, length);
    mosquitto_publish(broker, 0, answer, length + 2, whole, 0, 0);
}

void line_reset(char *text, size_t size) { snprintf(text, size, "-"); }
