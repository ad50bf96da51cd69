// Asks Embree 3 which rays are blocked, one ray at a time on one thread, and prints "seconds-to-build seconds-to-ask blocked".
// The file has: number of corners / 3, number of rays, then corners (3 floats each), then rays (origin, direction, limit).
#include <embree3/rtcore.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

static double now(void) {
  struct timespec t;
  clock_gettime(CLOCK_MONOTONIC, &t);
  return t.tv_sec + t.tv_nsec * 1e-9;
}

int main(int argc, char **argv) {
  uint32_t n[2];
  FILE *f = argc == 2 ? fopen(argv[1], "rb") : NULL;
  if (!f || fread(n, 4, 2, f) != 2) return 2;
  RTCDevice device = rtcNewDevice("threads=1,set_affinity=0");
  RTCScene scene = rtcNewScene(device);
  rtcSetSceneBuildQuality(scene, RTC_BUILD_QUALITY_HIGH);
  RTCGeometry mesh = rtcNewGeometry(device, RTC_GEOMETRY_TYPE_TRIANGLE);
  float *corners = rtcSetNewGeometryBuffer(mesh, RTC_BUFFER_TYPE_VERTEX, 0, RTC_FORMAT_FLOAT3, 12, 3 * (size_t)n[0]);
  uint32_t *index = rtcSetNewGeometryBuffer(mesh, RTC_BUFFER_TYPE_INDEX, 0, RTC_FORMAT_UINT3, 12, n[0]);
  float *rays = malloc(28 * (size_t)n[1]);
  if (fread(corners, 36, n[0], f) != n[0] || fread(rays, 28, n[1], f) != n[1]) return 2;
  for (uint32_t i = 0; i < 3 * n[0]; i++) index[i] = i;
  double start = now();
  rtcCommitGeometry(mesh);
  rtcAttachGeometry(scene, mesh);
  rtcCommitScene(scene);
  double built = now();
  uint32_t blocked = 0;
  for (uint32_t i = 0; i < n[1]; i++) {
    const float *r = rays + 7 * (size_t)i;
    struct RTCIntersectContext context;
    rtcInitIntersectContext(&context);
    struct RTCRay ray = {r[0], r[1], r[2], 0, r[3], r[4], r[5], 0, r[6], -1, 0, 0};
    rtcOccluded1(scene, &context, &ray);
    blocked += ray.tfar < 0;
  }
  printf("%.6f %.6f %u\n", built - start, now() - built, blocked);
  return 0;
}
