/* The yardstick: a bare epoll loop that sends keep-alive GETs over N connections and reads answers by Content-Length.
   Usage: epoll_loop PORT CONNECTIONS SECONDS   prints: exchanges processor_seconds */
#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netinet/tcp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>
static const char request[] = "GET /kb HTTP/1.1\r\nHost: 127.0.0.1\r\nUser-Agent: loop\r\nAccept: */*\r\n\r\n";
struct link { int fd; size_t got; long total; char data[16384]; };
static double now(void) { struct timespec t; clock_gettime(CLOCK_MONOTONIC, &t); return t.tv_sec + t.tv_nsec / 1e9; }
static double cpu(void) { struct rusage u; getrusage(RUSAGE_SELF, &u); return u.ru_utime.tv_sec + u.ru_stime.tv_sec + (u.ru_utime.tv_usec + u.ru_stime.tv_usec) / 1e6; }
int main(int argc, char **argv) {
  if (argc < 4) return 2;
  int port = atoi(argv[1]), n = atoi(argv[2]); double length = atof(argv[3]);
  struct link *links = calloc(n, sizeof *links); int poll = epoll_create1(0); long done = 0;
  struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons(port), .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
  for (int i = 0; i < n; i++) {
    links[i].fd = socket(AF_INET, SOCK_STREAM, 0); int one = 1; setsockopt(links[i].fd, IPPROTO_TCP, TCP_NODELAY, &one, sizeof one);
    if (connect(links[i].fd, (void *)&to, sizeof to)) { perror("connect"); return 1; }
    fcntl(links[i].fd, F_SETFL, O_NONBLOCK);
    struct epoll_event e = {.events = EPOLLIN, .data.ptr = &links[i]}; epoll_ctl(poll, EPOLL_CTL_ADD, links[i].fd, &e);
    if (write(links[i].fd, request, sizeof request - 1) < 0) return 1;
  }
  double begun = now(), used = cpu(); struct epoll_event events[256];
  while (now() - begun < length) {
    int ready = epoll_wait(poll, events, 256, 100);
    for (int i = 0; i < ready; i++) {
      struct link *l = events[i].data.ptr; ssize_t got = read(l->fd, l->data + l->got, sizeof l->data - 1 - l->got);
      if (got <= 0) { if (got < 0 && errno == EAGAIN) continue; fprintf(stderr, "closed\n"); return 1; }
      l->got += got; l->data[l->got] = 0;
      char *end = strstr(l->data, "\r\n\r\n"); if (!end) continue;
      if (!l->total) { char *length_at = strcasestr(l->data, "content-length:"); l->total = (end + 4 - l->data) + (length_at ? atol(length_at + 15) : 0); }
      if ((long)l->got < l->total) continue;
      done++; l->got = 0; l->total = 0;
      if (write(l->fd, request, sizeof request - 1) < 0) return 1;
    }
  }
  printf("%ld %.6f\n", done, cpu() - used);
  return 0;
}
